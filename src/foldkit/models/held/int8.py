"""A matrix in 8-bit whole numbers with a scale for each row.

The rule: scale = the row's largest magnitude / 127, 1 for a row of zeros; numbers = weight / scale rounded, ties to
even.
"""

from __future__ import annotations

import torch
from torch import Tensor

from .contract import Held, Matrix, pieces_of, shape_of
from .digits import by_digits, digit_product
from .scratch import copied


class Int8(Held):
    """numbers int8 (n_rows, width), scales float32 (n_rows, 1)."""

    def __init__(self, weight: Matrix) -> None:
        super().__init__(*shape_of(weight))
        self.register_buffer("scales", torch.empty(self.n_rows, 1))
        self.register_buffer("numbers", torch.empty(self.n_rows, self.width, dtype=torch.int8))
        self.scales: Tensor
        self.numbers: Tensor
        for which, rows in pieces_of(weight):
            scales = rows.abs().amax(1, keepdim=True) / 127
            self.scales[which] = torch.where(scales > 0, scales, 1)
            self.numbers[which] = (rows / self.scales[which]).round()

    def rows(self, which: slice | Tensor, dtype: torch.dtype, into: Tensor | None = None) -> Tensor:
        """Return these rows, (n, width), rounded once to a dtype narrower than float32."""
        wide = torch.promote_types(dtype, torch.float32)
        return copied(self.numbers[which], wide, into).mul_(self.scales[which].to(wide)).to(dtype)

    def few_times(self, x: Tensor) -> Tensor | None:
        """Return x W' for few rows of x (n, width) by digits, which are exact, and read a byte a number."""
        return digit_product(x, self.numbers).mul_(self.scales[:, 0]) if by_digits(x, self.width) else None
