"""The contract of a held matrix, and the maps that use one: a linear map, an embedding, a head in chunks of rows."""

from __future__ import annotations

from collections.abc import Iterator
from typing import Any, NamedTuple

import torch
from torch import Tensor, nn

from foldkit.models.gating import gated_silu

# Rows expanded at once, so that a large head never stands in memory whole.
CHUNK = 8192


class Held(nn.Module):
    """A frozen matrix of `n_rows` rows and `width` columns; `rows` expands some of them."""

    def __init__(self, n_rows: int, width: int) -> None:
        super().__init__()
        self.n_rows, self.width = n_rows, width

    def rows(self, which: slice | Tensor, dtype: torch.dtype) -> Tensor:
        """Return these rows, (n, width); `which` is a slice or int64 (n,)."""
        raise NotImplementedError

    @property
    def n_bytes(self) -> int:
        """Bytes that the matrix takes, scales included."""
        return sum(buffer.numel() * buffer.element_size() for buffer in self.buffers())

    def chunks(self) -> Iterator[slice]:
        """Yield slices that cover all rows."""
        return (slice(start, min(start + CHUNK, self.n_rows)) for start in range(0, self.n_rows, CHUNK))


Matrix = Tensor | Held


class Parts(NamedTuple):
    """All that a linear map is, where it is no more: x W' + x A' B' + bias, any but the matrix None where it is not."""

    matrix: Matrix
    bias: Tensor | None
    factor_a: Tensor | None = None
    factor_b: Tensor | None = None

    @property
    def n_outputs(self) -> int:
        """How many numbers come out for a row that goes in."""
        return len(self.matrix) if isinstance(self.matrix, Tensor) else self.matrix.n_rows


def times(x: Tensor, matrix: Matrix) -> Tensor:
    """Return x W' for x (n, width), without gradients; a held matrix is expanded a few rows at a time."""
    if isinstance(matrix, Tensor):
        return x @ matrix.T
    y = x.new_empty(len(x), matrix.n_rows)
    add_times(x, matrix, y, beta=0)
    return y


def add_times(x: Tensor, matrix: Matrix, y: Tensor, beta: int = 1) -> None:
    """Add x W' to beta y (n, n_rows) in place, without gradients; with beta 0 what y holds is not read."""
    if isinstance(matrix, Tensor):
        y.addmm_(x, matrix.T, beta=beta)
        return
    for chunk in matrix.chunks():
        y[:, chunk].addmm_(x, matrix.rows(chunk, x.dtype).T, beta=beta)


def times_back(gradient: Tensor, matrix: Matrix, total: Tensor) -> None:
    """Add gradient W to `total` (n, width) in place, for a gradient (n, n_rows)."""
    if isinstance(matrix, Tensor):
        total.addmm_(gradient, matrix)
        return
    for chunk in matrix.chunks():
        total.addmm_(gradient[:, chunk], matrix.rows(chunk, gradient.dtype))


class _Product(torch.autograd.Function):
    """x W', the matrix expanded again for the way back rather than kept."""

    @staticmethod
    def forward(ctx: Any, x: Tensor, held: Held) -> Tensor:
        ctx.held = held
        return times(x.reshape(-1, held.width), held).view(*x.shape[:-1], held.n_rows)

    @staticmethod
    def backward(ctx: Any, *gradients: Tensor) -> tuple[Tensor, None]:
        (gradient,) = gradients
        total = gradient.new_zeros(gradient.numel() // gradient.shape[-1], ctx.held.width)
        times_back(gradient.reshape(len(total), -1), ctx.held, total)
        return total.view(*gradient.shape[:-1], ctx.held.width), None


def product(x: Tensor, held: Held) -> Tensor:
    """Map x (..., width) to (..., n_rows), with gradients to x alone."""
    out: Tensor = _Product.apply(x, held)  # type: ignore[no-untyped-call]
    return out


class FrozenLinear(nn.Module):
    """A linear map whose matrix is held."""

    def __init__(self, held: Held, bias: nn.Parameter | None) -> None:
        super().__init__()
        self.held, self.bias = held, bias
        self.in_features, self.out_features = held.width, held.n_rows

    def forward(self, x: Tensor) -> Tensor:
        """Map (..., in_features) to (..., out_features)."""
        return self.after(x, self.product(x))

    def product(self, x: Tensor) -> Tensor:
        """Return the product of x (..., in_features) and the matrix alone, (..., out_features)."""
        return product(x, self.held)

    def of_gated(self, gate: Tensor, up: Tensor) -> Tensor:
        """Map silu(gate) * up, both (..., in_features), to (..., out_features)."""
        return self.forward(gated_silu(gate, up))

    def after(self, x: Tensor, product: Tensor) -> Tensor:
        """Return what the map gives for x, the product of x and its matrix being known."""
        return product if self.bias is None else product + self.bias

    def parts(self) -> Parts:
        """Return what the map is as it stands now."""
        return Parts(self.held, self.bias)

    @property
    def matrix(self) -> Held:
        """The matrix as it is held."""
        return self.held

    @property
    def weight(self) -> Tensor:
        """The matrix expanded, float32 (out_features, in_features)."""
        return self.held.rows(slice(None), torch.float32)


class FrozenEmbedding(nn.Module):
    """An embedding whose table is held; `dtype` is that of what comes out."""

    def __init__(self, held: Held, dtype: torch.dtype) -> None:
        super().__init__()
        self.held, self.dtype = held, dtype

    def forward(self, ids: Tensor) -> Tensor:
        """Map int64 (...) to (..., width)."""
        return self.held.rows(ids.flatten(), self.dtype).view(*ids.shape, self.held.width)

    def logits(self, stream: Tensor) -> Tensor:
        """Map the stream (..., width) to logits (..., n_rows) by the same table."""
        return product(stream, self.held)

    @property
    def matrix(self) -> Held:
        """The table as it is held."""
        return self.held

    @property
    def weight(self) -> Tensor:
        """The table expanded, float32 (n_rows, width)."""
        return self.held.rows(slice(None), torch.float32)
