"""The contract of a held matrix, and the maps that use one: a linear map, an embedding, a head in chunks of rows."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from typing import Any, NamedTuple

import torch
from torch import Tensor, nn

from foldkit.models.activating import activated

from .few import left_product, wants_left
from .narrow import is_narrower, narrow, narrow_product
from .scratch import scratch

# Numbers of a matrix that are expanded at once. For few rows of x they stay in a processor's caches, and in memory that
# comes again, where a large block would be new, and cleared, each time. Measured on a CPU, one row and a matrix of
# 9,216 x 2,304 in int8: 10 ms instead of 59. For many rows large blocks would leave gaps among what is kept for the way
# back: a step of 1.1 billion parameters in int8 took 4,409 MB at its peak by blocks of up to 46 MB, and 2,622 by these.
_FEW, _FOR_FEW, _FOR_MANY = 256, 2**20, 2**22
# Numbers of a matrix that are looked at at once while it is brought into another form.
_AT_ONCE = 2**19


class Held(nn.Module):
    """A frozen matrix of `n_rows` rows and `width` columns; `rows` expands some of them.

    Where it is `narrow` products with it are taken in bfloat16, whatever dtype goes in and comes out.
    """

    def __init__(self, n_rows: int, width: int) -> None:
        super().__init__()
        self.n_rows, self.width, self.narrow = n_rows, width, False

    def rows(self, which: slice | Tensor, dtype: torch.dtype, into: Tensor | None = None) -> Tensor:
        """Return these rows, (n, width); `which` is a slice or int64 (n,).

        They may stand in `into`, (at least n * width,), of the dtype or, where that is narrower, of float32.
        """
        raise NotImplementedError

    def few_times(self, x: Tensor) -> Tensor | None:
        """Return x W' for x (n, width) without expanding anything, None where that is no faster or not possible."""
        return None

    @property
    def n_bytes(self) -> int:
        """Bytes that the matrix takes, scales included."""
        return sum(buffer.numel() * buffer.element_size() for buffer in self.buffers())

    def rows_at_once(self, n_given: int) -> int:
        """Return how many rows are expanded at once for so many rows of x: as many each time, but for the last."""
        most = _FOR_MANY if n_given > _FEW else _FOR_FEW
        return -(-self.n_rows // -(-self.n_rows * self.width // most))

    def chunks(self, n_given: int) -> Iterator[slice]:
        """Yield slices that cover all rows, of as many as are expanded at once for so many rows of x."""
        size = self.rows_at_once(n_given)
        return (slice(start, min(start + size, self.n_rows)) for start in range(0, self.n_rows, size))


Matrix = Tensor | Held


def has_narrow(module: nn.Module) -> bool:
    """Say whether products with some of its held matrices are taken in bfloat16."""
    return any(isinstance(one, Held) and one.narrow for one in module.modules())


class Parts(NamedTuple):
    """All that a linear map is, where it is no more: x W' + x A' B' + bias, any but the matrix None where it is not.

    `dropout` is the share of x that the pair is not given.
    """

    matrix: Matrix
    bias: Tensor | None
    factor_a: Tensor | None = None
    factor_b: Tensor | None = None
    dropout: float = 0.0

    @property
    def n_outputs(self) -> int:
        """How many numbers come out for a row that goes in."""
        return shape_of(self.matrix)[0]


def times(x: Tensor, matrix: Matrix) -> Tensor:
    """Return x W' for x (n, width), without gradients; a held matrix is expanded a few rows at a time.

    The product is taken in bfloat16 where the matrix is narrow, or is in that and x is not.
    """
    if isinstance(matrix, Tensor) and not is_narrower(matrix, x):
        return x @ matrix.T
    y = x.new_empty(len(x), shape_of(matrix)[0])
    add_times(x, matrix, y, beta=0)
    return y


def add_times(x: Tensor, matrix: Matrix, y: Tensor, beta: int = 1) -> None:
    """Add x W' to beta y (n, n_rows) in place, as `times`; with beta 0 what y holds is not read."""
    given = narrow(x) if _is_narrow(matrix, x) else x
    if isinstance(matrix, Held) and (whole := matrix.few_times(given)) is not None:
        _add(whole, y, beta)
        return
    for chunk, rows in _chunks(matrix, x, given.dtype):
        if given is x and wants_left(rows, len(x)):
            _add(left_product(x, rows), y[:, chunk], beta)
        elif given is x:
            y[:, chunk].addmm_(x, rows.T, beta=beta)
        else:
            _add(narrow_product(given, rows), y[:, chunk], beta)


def times_back(gradient: Tensor, matrix: Matrix, total: Tensor) -> None:
    """Add gradient W to `total` (n, width) in place, for a gradient (n, n_rows), as `times`."""
    is_narrow = _is_narrow(matrix, gradient)
    for chunk, rows in _chunks(matrix, gradient, torch.bfloat16 if is_narrow else gradient.dtype):
        if is_narrow:
            _add(narrow(gradient[:, chunk]) @ rows, total)
        else:
            total.addmm_(gradient[:, chunk], rows)


def _is_narrow(matrix: Matrix, x: Tensor) -> bool:
    return is_narrower(matrix, x) if isinstance(matrix, Tensor) else matrix.narrow


def _chunks(matrix: Matrix, x: Tensor, dtype: torch.dtype) -> Iterator[tuple[slice, Tensor]]:
    """Yield some rows of a matrix after the other, and which they are; some are there until the next are."""
    if isinstance(matrix, Tensor):
        yield slice(None), matrix
        return
    into = None
    if len(x) > _FEW:  # beside fewer next to nothing is kept, and a place of one's own is quicker
        wide = torch.promote_types(dtype, torch.float32)
        into = scratch(matrix.rows_at_once(len(x)) * matrix.width, wide, x.device)
    for chunk in matrix.chunks(len(x)):
        yield chunk, matrix.rows(chunk, dtype, into)


def _add(product: Tensor, y: Tensor, beta: int = 1) -> None:
    """Add the first rows of a product to beta y in place."""
    if beta:
        y.add_(product[: len(y)])
    else:
        y.copy_(product[: len(y)])


def pieces_of(matrix: Matrix) -> Iterator[tuple[slice, Tensor]]:
    """Yield some rows of a matrix after the other, float32 (n, width), and which they are."""
    n_rows, width = shape_of(matrix)
    step = max(1, _AT_ONCE // width)
    for start in range(0, n_rows, step):
        which = slice(start, start + step)
        yield which, matrix[which].float() if isinstance(matrix, Tensor) else matrix.rows(which, torch.float32)


def shape_of(matrix: Matrix) -> tuple[int, int]:
    """Return how many rows a matrix has, and its width."""
    return (len(matrix), matrix.shape[1]) if isinstance(matrix, Tensor) else (matrix.n_rows, matrix.width)


class _Product(torch.autograd.Function):
    """x W', the matrix expanded again for the way back rather than kept."""

    @staticmethod
    def forward(ctx: Any, x: Tensor, matrix: Matrix) -> Tensor:
        ctx.matrix = matrix
        y = times(x.reshape(-1, x.shape[-1]), matrix)
        return y.view(*x.shape[:-1], y.shape[1])

    @staticmethod
    def backward(ctx: Any, *gradients: Tensor) -> tuple[Tensor, None]:
        (gradient,) = gradients
        flat = gradient.reshape(-1, gradient.shape[-1])
        total = flat.new_zeros(len(flat), shape_of(ctx.matrix)[1])
        times_back(flat, ctx.matrix, total)
        return total.view(*gradient.shape[:-1], total.shape[1]), None


def product(x: Tensor, matrix: Matrix) -> Tensor:
    """Map x (..., width) to (..., n_rows) as `times` does, with gradients to x alone."""
    out: Tensor = _Product.apply(x, matrix)  # type: ignore[no-untyped-call]
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

    def of_activated(self, parts: Sequence[Tensor], activation: str) -> Tensor:
        """Map what an MLP's parts come to, each (..., in_features), to (..., out_features)."""
        return self.forward(activated(parts, activation))

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
