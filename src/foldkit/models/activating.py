"""What goes into the last map of an MLP, its way back written by hand: the parts are kept, and nothing else.

The parts are gate and up of activation(gate) * up (Shazeer 2020, eq. 5 and 6), or up alone of activation(up).
"""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

import torch
from torch import Tensor
from torch.nn import functional

_GELU = {"gelu": "none", "gelu tanh": "tanh"}


def activated(parts: Sequence[Tensor], activation: str) -> Tensor:
    """Return what parts of one shape come to; `activation` is "silu", "gelu" or "gelu tanh"."""
    if not torch.is_grad_enabled():
        active = active_of(parts, activation)
        return active if len(parts) == 1 else active.mul_(parts[1])
    out: Tensor = _Activated.apply(activation, *parts)  # type: ignore[no-untyped-call]
    return out


def active_of(parts: Sequence[Tensor], activation: str) -> Tensor:
    """Return the activation of the first part."""
    first = parts[0]
    return functional.silu(first) if activation == "silu" else functional.gelu(first, approximate=_GELU[activation])


def activated_back(gradient: Tensor, parts: Sequence[Tensor], active: Tensor, activation: str) -> tuple[Tensor, ...]:
    """Return the gradient to each part from the one to what they come to; `active` is written over."""
    first, *up = parts
    to_first = active_back(gradient * up[0] if up else gradient, first, activation, torch.empty_like(first))
    return (to_first, active.mul_(gradient)) if up else (to_first,)


def active_back(to_active: Tensor, first: Tensor, activation: str, out: Tensor) -> Tensor:
    """Write the gradient to the first part, from the one to its activation, into `out`, which may be the part."""
    if activation == "silu":
        torch.ops.aten.silu_backward.grad_input(to_active, first, grad_input=out)
    else:
        torch.ops.aten.gelu_backward.grad_input(to_active, first, approximate=_GELU[activation], grad_input=out)
    return out


class _Activated(torch.autograd.Function):
    @staticmethod
    def forward(ctx: Any, activation: str, *parts: Tensor) -> Tensor:
        ctx.activation = activation
        ctx.save_for_backward(*parts)
        return activated(parts, activation)

    @staticmethod
    def backward(ctx: Any, *gradients: Tensor) -> tuple[Tensor | None, ...]:
        parts = ctx.saved_tensors
        return None, *activated_back(gradients[0], parts, active_of(parts, ctx.activation), ctx.activation)
