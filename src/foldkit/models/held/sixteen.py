"""A matrix in 16-bit floats, as it was stored or rounded to bfloat16."""

from __future__ import annotations

import torch
from torch import Tensor

from .contract import Held, Matrix, pieces_of, shape_of
from .scratch import copied


class Sixteen(Held):
    """The matrix itself, in float16 or bfloat16."""

    def __init__(self, weight: Tensor) -> None:
        super().__init__(*weight.shape)
        self.register_buffer("weight", weight)
        self.weight: Tensor

    def rows(self, which: slice | Tensor, dtype: torch.dtype, into: Tensor | None = None) -> Tensor:
        """Return these rows, (n, width)."""
        return self.weight[which] if dtype == self.weight.dtype else copied(self.weight[which], dtype, into)


def bfloat16(weight: Matrix) -> Sixteen:
    """Hold a matrix rounded to bfloat16, ties to even."""
    if isinstance(weight, Tensor):
        return Sixteen(weight.to(torch.bfloat16))
    rounded = torch.empty(shape_of(weight), dtype=torch.bfloat16)
    for which, rows in pieces_of(weight):
        rounded[which] = rows
    return Sixteen(rounded)
