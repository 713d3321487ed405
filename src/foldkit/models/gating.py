"""silu(gate) * up, its way back written by hand: the two inputs are kept, and nothing else."""

from __future__ import annotations

from typing import Any

import torch
from torch import Tensor
from torch.nn import functional


def gated_silu(gate: Tensor, up: Tensor) -> Tensor:
    """Return silu(gate) * up, both of one shape (Shazeer 2020, eq. 6)."""
    if not torch.is_grad_enabled():
        return functional.silu(gate).mul_(up)
    out: Tensor = _GatedSilu.apply(gate, up)  # type: ignore[no-untyped-call]
    return out


def gated_silu_back(gradient: Tensor, gate: Tensor, up: Tensor) -> tuple[Tensor, Tensor]:
    """Return the gradients to gate and up from the one to silu(gate) * up."""
    return torch.ops.aten.silu_backward(gradient * up, gate), functional.silu(gate).mul_(gradient)


class _GatedSilu(torch.autograd.Function):
    @staticmethod
    def forward(ctx: Any, gate: Tensor, up: Tensor) -> Tensor:
        ctx.save_for_backward(gate, up)
        return gated_silu(gate, up)

    @staticmethod
    def backward(ctx: Any, *gradients: Tensor) -> tuple[Tensor, Tensor]:
        return gated_silu_back(gradients[0], *ctx.saved_tensors)
