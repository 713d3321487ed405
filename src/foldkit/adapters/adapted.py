"""Adapted maps of one input with a way back written by hand: products and pairs as in `foldkit.models.pairs`."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

import torch
from torch import Tensor

from foldkit.models.activating import activated, activated_back, active_of
from foldkit.models.dropout import drawn, scale_of
from foldkit.models.held import Matrix, times, times_back
from foldkit.models.pairs import Pair, add_pairs, low_of, pairs_back


def adapted(
    inputs: Sequence[Tensor],
    whole: Matrix,
    parts: Sequence[Matrix],
    factors: Sequence[Tensor],
    activation: str = "",
    dropout: float = 0.0,
) -> tuple[Tensor, ...]:
    """Return y_i (..., d_out_i) for x (..., d_in); gradients go to the inputs and to the factors alone.

    `inputs` are x itself, or with an `activation` the parts of an MLP that x is made of, again on the way back too
    rather than kept.

    `whole` is all matrices `parts`, (d_out_i, d_in), one below the other; `factors` are A_1 (rank_1, d_in), B_1
    (d_out_1, rank_1), A_2, and so on; `dropout` is the share of x that they are not given.
    """
    found: tuple[Tensor, ...] = _Adapted.apply(whole, parts, activation, dropout, len(inputs), *inputs, *factors)  # type: ignore[no-untyped-call]
    return found


class _Adapted(torch.autograd.Function):
    @staticmethod
    def forward(
        ctx: Any,
        whole: Matrix,
        parts: Sequence[Matrix],
        activation: str,
        dropout: float,
        n_inputs: int,
        *tensors: Tensor,
    ) -> tuple[Tensor, ...]:
        inputs, factors = tensors[:n_inputs], tensors[n_inputs:]
        pairs, rows = _pairs(factors), _rows(activated(inputs, activation) if activation else inputs[0])
        ys = times(rows, whole).split_with_sizes([len(b) for _, b in pairs], dim=1)
        stays, ctx.scale = drawn(rows, dropout), scale_of(dropout)
        low = low_of(rows, pairs, stays, ctx.scale)
        add_pairs(ys, low, pairs)
        ctx.parts, ctx.activation, ctx.n_inputs = parts, activation, n_inputs
        ctx.save_for_backward(*inputs, low, stays, *factors)
        return tuple(y.view(*inputs[0].shape[:-1], y.shape[1]) for y in ys)

    @staticmethod
    def backward(ctx: Any, *gradients: Tensor) -> tuple[Any, ...]:
        saved = ctx.saved_tensors  # asked for once: with layers computed again, they are given once
        inputs, (low, stays, *factors) = saved[: ctx.n_inputs], saved[ctx.n_inputs :]
        active = active_of(inputs, ctx.activation) if ctx.activation else inputs[0]
        rows = _rows(active * inputs[1] if len(inputs) > 1 else active)
        flat = [gradient.reshape(len(rows), -1) for gradient in gradients]
        to_x, to_factors = pairs_back(flat, rows, low, _pairs(factors), stays, ctx.scale)
        for g, part in zip(flat, ctx.parts, strict=True):
            times_back(g, part, to_x)
        to_x = to_x.view(inputs[0].shape)
        to_inputs = activated_back(to_x, inputs, active, ctx.activation) if ctx.activation else (to_x,)
        return None, None, None, None, None, *to_inputs, *to_factors


def _pairs(factors: Sequence[Tensor]) -> list[Pair]:
    return list(zip(factors[::2], factors[1::2], strict=True))


def _rows(x: Tensor) -> Tensor:
    return x.reshape(-1, x.shape[-1])
