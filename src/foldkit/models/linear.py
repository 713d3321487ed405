"""The linear map of all layers, in the form that is fastest for as many rows as there are."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Protocol

import torch
from torch import Tensor, nn
from torch.nn import functional

from .activating import activated
from .held import Matrix, Parts, is_narrower, left_product, product, wants_left

# Rows that are copied at once into a matrix that stands by columns, so that they stay in the processor's caches.
_COPIED = 1024


def linear(x: Tensor, weight: Tensor, bias: Tensor | None = None) -> Tensor:
    """Map x (..., d_in) by weight (d_out, d_in) to (..., d_out); only the order of its sums depends on the rows.

    Where the weight is in bfloat16 and x is not, the product is taken in that, and gradients go to x alone.
    """
    if is_narrower(weight, x):
        y = product(x, weight)
        return y if bias is None else y + bias
    if torch.is_grad_enabled() or not wants_left(weight, x.numel() // x.shape[-1]):
        return functional.linear(x, weight, bias)
    y = left_product(x.reshape(-1, x.shape[-1]), weight).reshape(*x.shape[:-1], len(weight))
    return y if bias is None else y + bias


def laid_out(n_rows: int, width: int, dtype: torch.dtype, device: torch.device) -> Tensor:
    """Return a matrix (n_rows, width) without values, by columns in memory where it is taller than wide.

    A product with one row reads it 1.15 to 1.35 times as fast then, as measured on a CPU with 576 columns; in bfloat16
    it is 2 to 5 times as slow.
    """
    if n_rows > width and dtype != torch.bfloat16:
        return torch.empty(width, n_rows, dtype=dtype, device=device).T
    return torch.empty(n_rows, width, dtype=dtype, device=device)


def fill(matrix: Tensor, values: Matrix) -> None:
    """Copy values into a matrix of their shape, which may stand by columns."""
    for start in range(0, len(matrix), _COPIED):
        which = slice(start, start + _COPIED)
        rows = values[which] if isinstance(values, Tensor) else values.rows(which, torch.float32)
        matrix[which].copy_(rows)


class LinearMap(Protocol):
    """A linear map, with or without something added to its product."""

    out_features: int

    @property
    def weight(self) -> Tensor:
        """The matrix, (d_out, d_in)."""

    def forward(self, x: Tensor) -> Tensor:
        """Map (..., d_in) to (..., d_out)."""

    def after(self, x: Tensor, product: Tensor) -> Tensor:
        """Return what the map gives for x, the product of x and its matrix being known."""

    def beside(self, x: Tensor, maps: Sequence[LinearMap], joined: Tensor) -> list[Tensor]:
        """Return what these maps, of which this one is the first, give; `joined` holds their weights."""


class Linear(nn.Linear):
    """A linear map without a start of its own: its weights are always given."""

    def reset_parameters(self) -> None:
        """Leave the weights as they are."""

    def forward(self, x: Tensor) -> Tensor:
        """Map (..., d_in) to (..., d_out)."""
        return linear(x, self.weight, self.bias)

    def product(self, x: Tensor) -> Tensor:
        """Return the product of x (..., d_in) and the matrix alone, (..., d_out)."""
        return linear(x, self.weight)

    def after(self, x: Tensor, product: Tensor) -> Tensor:
        """Return what the map gives for x, the product of x and its weight being known."""
        return product if self.bias is None else product + self.bias

    def of_activated(self, parts: Sequence[Tensor], activation: str) -> Tensor:
        """Map what an MLP's parts come to, each (..., d_in), to (..., d_out)."""
        return self.forward(activated(parts, activation))

    def parts(self) -> Parts:
        """Return what the map is as it stands now."""
        return Parts(self.weight, self.bias)

    @property
    def matrix(self) -> Tensor:
        """The matrix, (d_out, d_in)."""
        return self.weight

    def beside(self, x: Tensor, maps: Sequence[LinearMap], joined: Tensor) -> list[Tensor]:
        """Return what these maps, of which this one is the first, give; `joined` holds their weights."""
        return one_after_the_other(x, maps, joined)


def join(maps: Sequence[LinearMap], dtype: torch.dtype, device: torch.device) -> Tensor | None:
    """Put the weights of maps of one input one after the other in memory; None where one has no plain weight.

    Weights without values yet get theirs there, so that none is ever held twice.
    """
    plain = [m for m in maps if isinstance(m, Linear)]
    if len(plain) < len(maps):
        return None
    weights = [m.weight.detach() for m in plain]
    joined = laid_out(sum(map(len, weights)), weights[0].shape[1], dtype, device)
    for m, part, weight in zip(plain, joined.split_with_sizes(list(map(len, weights))), weights, strict=True):
        if not weight.is_meta:
            fill(part, weight)
        m.weight = nn.Parameter(part, requires_grad=m.weight.requires_grad)
    return joined


def together(x: Tensor, maps: Sequence[LinearMap], joined: Tensor | None) -> list[Tensor]:
    """Return what maps of one input give: by a single product while `joined` still holds their weights."""
    if joined is None or not holds(joined, maps[0].weight):
        return [m.forward(x) for m in maps]
    return maps[0].beside(x, maps, joined)


def holds(joined: Tensor, first: Matrix) -> bool:
    """Say whether `first` and the weights after it still stand in `joined`: moved to another dtype, they do not."""
    return isinstance(first, Tensor) and joined.data_ptr() == first.data_ptr()


def one_after_the_other(x: Tensor, maps: Sequence[LinearMap], joined: Tensor) -> list[Tensor]:
    """Return what maps give whose weights stand in `joined`, what each adds made by itself."""
    parts = linear(x, joined).split_with_sizes([m.out_features for m in maps], dim=-1)
    return [m.after(x, part) for m, part in zip(maps, parts, strict=True)]
