"""A matrix in 16-bit floats, as it was stored or rounded to bfloat16."""

from __future__ import annotations

import torch
from torch import Tensor

from .contract import Held


class Sixteen(Held):
    """The matrix itself, in float16 or bfloat16."""

    def __init__(self, weight: Tensor) -> None:
        super().__init__(*weight.shape)
        self.register_buffer("weight", weight)
        self.weight: Tensor

    def rows(self, which: slice | Tensor, dtype: torch.dtype) -> Tensor:
        """Return these rows, (n, width)."""
        return self.weight[which].to(dtype)


def bfloat16(weight: Tensor) -> Sixteen:
    """Hold a matrix rounded to bfloat16, ties to even."""
    return Sixteen(weight.to(torch.bfloat16))
