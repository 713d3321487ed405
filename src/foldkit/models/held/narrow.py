"""Products in bfloat16 on a processor, of numbers that are wider before and after.

A library makes a kernel for every count of rows that it meets, which takes 5 to 35 ms here, and keeps it, with about a
megabyte. So counts are filled up to some that come again.
"""

from __future__ import annotations

import torch
from torch import Tensor

# Rows that counts are multiples of at least, and into how many parts all below a power of two are divided.
_FEWEST, _PARTS = 16, 8


def is_narrower(matrix: Tensor, x: Tensor) -> bool:
    """Say whether a matrix is in bfloat16 and what it is multiplied with is not."""
    return matrix.dtype == torch.bfloat16 != x.dtype


def narrow(x: Tensor) -> Tensor:
    """Return x (n, k) in bfloat16 with rows of zeros after it, up to a count that comes again."""
    n = len(x)
    filled = x.new_empty(_filled_up(n), x.shape[1], dtype=torch.bfloat16)
    filled[:n].copy_(x)
    filled[n:].zero_()
    return filled


def _filled_up(n: int) -> int:
    if n < 2:
        return n
    step = max(_FEWEST, (1 << (n - 1).bit_length()) // _PARTS)
    return -(-n // step) * step


def narrow_product(x: Tensor, matrix: Tensor) -> Tensor:
    """Return x W' for x (n, k) and a matrix W (m, k), both in bfloat16.

    One row takes a third of the time by the product of a matrix and a vector, which needs W by rows.
    """
    return (matrix @ x[0])[None] if len(x) == 1 else x @ matrix.T
