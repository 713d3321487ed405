"""Products of floats and whole numbers by digits: what is added up is whole numbers, which loses nothing.

Each row of x is a power of two times whole numbers of 31 bits, and those are four digits of 8 bits, from -128 to 127.
Digits go through a product of 8-bit whole numbers, whose sums are exact; the four sums of a row, each of 256 times the
next, are then added in float32. So a matrix is read in a byte a number, where its floats would take four, and of x is
rounded what is under 2**-30 of the largest number of its row.
"""

from __future__ import annotations

import functools

import torch
from torch import Tensor

_DIGITS = 4
# What a whole number of x is smaller than: with the carries below added it still is one of 32 bits.
_LARGEST = 2.0**30
# A digit of 128 or more is one of that less 256, and a carry to the next: half of each place but the highest.
_CARRIES = 0x00808080
# A row of nothing but smaller numbers would have no power of two that is a float.
_SMALLEST = 1e-25
# Sums of digits that stand in memory at once, so that they stay in a processor's caches.
_AT_ONCE = 2**18
# x has at most this many rows, and a row for so many columns: each more costs as much however narrow the matrix is.
# Measured on a CPU: at 576 columns expanding takes as long from some 20 rows on, at 2,304 from 64.
_MOST, _COLUMNS_A_ROW = 64, 32


@functools.cache
def has_instructions() -> bool:
    """Say whether this processor adds products of 8-bit whole numbers in 32 bits at once.

    Without, they take longer, and some libraries add two of them in 16 bits, which may not hold them.
    """
    known = torch.cpu.get_capabilities()
    return any(known.get(name) for name in ("avx512_vnni", "avx_vnni"))


def by_digits(x: Tensor, n_columns: int) -> bool:
    """Say whether x is to be multiplied by its digits with a matrix of so many columns."""
    few = len(x) <= min(_MOST, n_columns // _COLUMNS_A_ROW)
    return few and x.dtype == torch.float32 and x.device.type == "cpu" and has_instructions()


def digit_product(x: Tensor, numbers: Tensor) -> Tensor:
    """Return x W', float32 (n, m), for x float32 (n, k) and whole numbers W, int8 (m, k) from -127 to 127.

    A row of x that is not finite gives one that is not.
    """
    digits, scales = _digits(x)
    y, counts = x.new_empty(len(x), len(numbers)), _counts()
    step = max(1, _AT_ONCE // len(digits))
    for chunk in (slice(start, start + step) for start in range(0, len(numbers), step)):
        sums = torch._int_mm(digits, numbers[chunk].T).float()
        y[:, chunk] = (counts @ sums.view(_DIGITS, -1)).view(len(x), -1)
    return y.mul_(scales)


def _digits(x: Tensor) -> tuple[Tensor, Tensor]:
    """Return the digits of x (n, k), int8 (digits * n, k), the lowest ones of all rows first, and scales (n, 1).

    x is scale * sum of digit[i] * 256**i, each scale a power of two, or no number where the row is not finite.
    """
    largest = torch.linalg.vector_norm(x, torch.inf, 1, keepdim=True).clamp_min_(_SMALLEST)
    scales = largest / largest.frexp().mantissa.mul_(_LARGEST)
    whole = x.contiguous().div(scales).round_().int()
    # What a digit has too much of its place it has too little of its sign, in the same bits.
    digits = whole.add_(_CARRIES).bitwise_xor_(_CARRIES).view(torch.int8)
    return digits.view(*x.shape, _DIGITS).permute(2, 0, 1).reshape(-1, x.shape[1]), scales


@functools.cache
def _counts() -> Tensor:
    """Return what a digit of each place counts, float32 (digits,)."""
    return torch.tensor([256.0**place for place in range(_DIGITS)], dtype=torch.float32)
