"""Dropout of what goes into low-rank pairs (Srivastava et al. 2014, section 4), in training alone.

PyTorch's own takes a CPU longer than a product with the base's matrix: it draws for one number after the other.
"""

from __future__ import annotations

import math

import torch
from torch import Tensor

# Two random bytes a number decide, so that a share is a multiple of one in as many.
_N = 2**16


def drawn(x: Tensor, dropout: float) -> Tensor | None:
    """Draw for each number of x whether it stays, 1 with the chance of 1 - dropout, or 0: uint8; None where all do."""
    n_dropped = _n_dropped(dropout)
    if not n_dropped:
        return None
    eights = torch.empty(math.ceil(x.numel() / 4), dtype=torch.int64, device=x.device).random_(-(2**63), None)
    twos = eights.view(torch.int16)[: x.numel()].view(x.shape)
    stays = torch.empty(x.shape, dtype=torch.uint8, device=x.device)
    torch.ge(twos, n_dropped - _N // 2, out=stays)
    return stays


def scale_of(dropout: float) -> float:
    """Return what the numbers that stay are multiplied by, so that the mean is that of all."""
    return _N / (_N - _n_dropped(dropout))


def _n_dropped(dropout: float) -> int:
    return round(dropout * _N)
