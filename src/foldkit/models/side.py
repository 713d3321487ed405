"""Maps of one input and their low-rank pairs, forward and back, written by hand: every product once, sums in place."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from typing import NamedTuple

import torch
from torch import Tensor, nn

from .dropout import drawn, scale_of
from .held import Matrix, add_times, times_back
from .linear import holds
from .pairs import Pair, add_pairs, low_of, pairs_back
from .quick import parts_of


class Side(NamedTuple):
    """Maps of one input: how many outputs each has, and which of them have a low-rank pair.

    `matrices` are one for all maps, where their weights stand side by side, or one for each. `dropout` is the share of
    their input that pairs are not given, all of them the same.
    """

    matrices: tuple[Matrix, ...]
    bias: Tensor | None
    sizes: tuple[int, ...]
    paired: tuple[bool, ...]
    dropout: float

    def with_matrices(self, y: Tensor) -> Iterable[tuple[Tensor, Matrix]]:
        """Return what each matrix gives of y (n, d_out), beside it."""
        parts = (y,) if len(self.matrices) == 1 else y.split_with_sizes(self.sizes, dim=1)
        return zip(parts, self.matrices, strict=True)


def side_of(joined: Tensor | None, maps: Sequence[nn.Module | None]) -> tuple[Side, list[Tensor]] | None:
    """Return maps of one input and their factors, None where they are more than products and a bias.

    None too where plain weights stand apart: those of a sharded base are gathered only as its layers are called.
    """
    parts = [one for one in map(parts_of, maps) if one]
    matrices: tuple[Matrix, ...] = tuple(one.matrix for one in parts)
    plain = [matrix for matrix in matrices if isinstance(matrix, Tensor)]
    if len(parts) < len(maps) or any(matrix.requires_grad for matrix in plain):
        return None
    if len(maps) > 1 and plain:
        if joined is None or not holds(joined, plain[0]):
            return None
        matrices = (joined,)
    biases = [one.bias for one in parts if one.bias is not None]
    sizes, paired = tuple(one.n_outputs for one in parts), tuple(one.factor_a is not None for one in parts)
    factors = [factor for one in parts for factor in (one.factor_a, one.factor_b) if factor is not None]
    dropout = max(one.dropout for one in parts)
    return Side(matrices, torch.cat(biases) if biases else None, sizes, paired, dropout), factors


# What pairs keep for their way back: the products x A', side by side, and what of x stayed.
Low = tuple[Tensor | None, Tensor | None]


def mapped(x: Tensor, side: Side, pairs: Sequence[Pair | None], onto: Tensor | None = None) -> tuple[Tensor, Low]:
    """Return what maps give for x (n, d_in), added to `onto`, and what their pairs keep."""
    y = x.new_empty(len(x), sum(side.sizes)) if onto is None else onto.clone()
    for part, matrix in side.with_matrices(y):
        add_times(x, matrix, part, beta=int(onto is not None))
    if side.bias is not None:
        y.add_(side.bias)
    low, stays = kept_of(x, side, pairs)
    if low is not None:
        parts, own = _paired(y, side, pairs)
        add_pairs(parts, low, own)
    return y, (low, stays)


def kept_of(x: Tensor, side: Side, pairs: Sequence[Pair | None]) -> Low:
    """Return what pairs keep, as `mapped` does, without what maps give."""
    own = [pair for pair in pairs if pair]
    if not own:
        return None, None
    stays = drawn(x, side.dropout)
    return low_of(x, own, stays, scale_of(side.dropout)), stays


def mapped_back(
    to_y: Tensor, x: Tensor, kept: Low, side: Side, pairs: Sequence[Pair | None]
) -> tuple[Tensor, list[Tensor]]:
    """Return the gradients to x, and to A and B of each pair in turn."""
    parts, own = _paired(to_y, side, pairs)
    low, stays = kept
    if low is None:
        to_x, factors = torch.zeros_like(x), list[Tensor]()
    else:
        to_x, factors = pairs_back(parts, x, low, own, stays, scale_of(side.dropout))
    for part, matrix in side.with_matrices(to_y):
        times_back(part, matrix, to_x)
    return to_x, factors


def _paired(y: Tensor, side: Side, pairs: Sequence[Pair | None]) -> tuple[list[Tensor], list[Pair]]:
    """Return the parts of y (n, d_out) that have a pair, and these pairs."""
    parts = zip(y.split_with_sizes(side.sizes, dim=1), pairs, strict=True)
    own = [(part, pair) for part, pair in parts if pair]
    return [part for part, _ in own], [pair for _, pair in own]
