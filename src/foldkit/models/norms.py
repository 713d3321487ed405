"""The root-mean-square norm with a frozen weight, its way back written by hand: input and one number a row are kept.

y = x r w with r = 1 / sqrt(mean(x²) + eps) (Zhang and Sennrich 2019, eq. 4); with h = g w, the gradient to x is
r h - x r³ mean(h x).
"""

from __future__ import annotations

import functools
from typing import Any

import torch
from torch import Tensor


def frozen_rms_norm(x: Tensor, weight: Tensor, eps: float) -> Tensor:
    """Map (..., size) to the same shape, with gradients to x alone."""
    if not torch.is_grad_enabled():
        return (x * root_of(x, eps)).mul_(weight)
    out: Tensor = _RmsNorm.apply(x, weight, eps)  # type: ignore[no-untyped-call]
    return out


def root_of(x: Tensor, eps: float) -> Tensor:
    """Return r, (..., 1), in few calls, which count where a step has one token."""
    length = torch.linalg.vector_norm(x, 2, -1, True)
    return torch.addcmul(_number(eps, x.dtype, x.device), length, length, value=1 / x.shape[-1]).rsqrt_()


@functools.cache
def _number(value: float, dtype: torch.dtype, device: torch.device) -> Tensor:
    return torch.tensor(value, dtype=dtype, device=device)


class _RmsNorm(torch.autograd.Function):
    @staticmethod
    def forward(ctx: Any, x: Tensor, weight: Tensor, eps: float) -> Tensor:
        root = root_of(x, eps)
        ctx.save_for_backward(x, weight, root)
        y: Tensor = (x * root).mul_(weight)
        return y

    @staticmethod
    def backward(ctx: Any, *gradients: Tensor) -> tuple[Tensor, None, None]:
        x, weight, root = ctx.saved_tensors
        return rms_norm_back(gradients[0], x, weight, root), None, None


def rms_norm_back(to_y: Tensor, x: Tensor, weight: Tensor, root: Tensor, onto: Tensor | None = None) -> Tensor:
    """Return the gradient to x from the one to y, added to `onto`."""
    h = to_y * weight
    share = torch.linalg.vecdot(h, x).unsqueeze(-1) * (root**3 / x.shape[-1])
    own = h.mul_(root) if onto is None else torch.addcmul(onto, h, root)
    return own.addcmul_(x, share, value=-1)
