"""Adapted maps of one input with a hand-written way back: every product once, sums made in place.

y_i = x W_i' + s_i (x A_i') B_i'. With g_i the gradient to y_i and l_i = s_i x A_i': the gradient to B_i is g_i' l_i, to
A_i h_i' x with h_i = s_i g_i B_i, and to x the sum of g_i W_i + h_i A_i (Hu et al. 2021, eq. 3, by the chain rule).
"""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

import torch
from torch import Tensor

from foldkit.models.gating import gated_silu, gated_silu_back
from foldkit.models.held import Matrix, times, times_back


def adapted(
    inputs: tuple[Tensor, ...],
    whole: Matrix,
    parts: Sequence[Matrix],
    scales: Sequence[float],
    factors: Sequence[Tensor],
) -> tuple[Tensor, ...]:
    """Return y_i (..., d_out_i) for x (..., d_in); gradients go to the inputs and to the factors alone.

    `inputs` are x itself, or gate and up of x = silu(gate) * up, which is made again on the way back rather than kept.

    `whole` is all matrices `parts`, (d_out_i, d_in), one below the other; `factors` are A_1 (rank_1, d_in), B_1
    (d_out_1, rank_1), A_2, and so on.
    """
    found: tuple[Tensor, ...] = _Adapted.apply(whole, parts, scales, len(inputs), *inputs, *factors)  # type: ignore[no-untyped-call]
    return found


class _Adapted(torch.autograd.Function):
    @staticmethod
    def forward(
        ctx: Any, whole: Matrix, parts: Sequence[Matrix], scales: Sequence[float], n_inputs: int, *tensors: Tensor
    ) -> tuple[Tensor, ...]:
        inputs, factors = tensors[:n_inputs], tensors[n_inputs:]
        rows, firsts, seconds = _rows(inputs), factors[::2], factors[1::2]
        low = rows @ torch.cat(firsts).T
        lows = low.split_with_sizes([len(a) for a in firsts], dim=1)
        for one, scale in zip(lows, scales, strict=True):
            one.mul_(scale)
        ys = times(rows, whole).split_with_sizes([len(b) for b in seconds], dim=1)
        for y, one, b in zip(ys, lows, seconds, strict=True):
            y.addmm_(one, b.T)
        ctx.parts, ctx.scales, ctx.n_inputs = parts, scales, n_inputs
        ctx.save_for_backward(*inputs, low, *factors)
        return tuple(y.view(*inputs[0].shape[:-1], y.shape[1]) for y in ys)

    @staticmethod
    def backward(ctx: Any, *gradients: Tensor) -> tuple[Any, ...]:
        n_inputs, saved = ctx.n_inputs, ctx.saved_tensors
        inputs, low, factors = saved[:n_inputs], saved[n_inputs], saved[n_inputs + 1 :]
        rows, firsts, seconds = _rows(inputs), factors[::2], factors[1::2]
        sizes = [len(a) for a in firsts]
        flat = [gradient.reshape(len(rows), -1) for gradient in gradients]
        high = torch.empty_like(low)
        for g, one, b, scale in zip(flat, high.split_with_sizes(sizes, dim=1), seconds, ctx.scales, strict=True):
            torch.mm(g, b, out=one)
            one.mul_(scale)
        # The few rows on the left: on a CPU that takes half the time.
        to_seconds = [(one.T @ g).T for g, one in zip(flat, low.split_with_sizes(sizes, dim=1), strict=True)]
        to_firsts = (high.T @ rows).split_with_sizes(sizes)
        to_x = high @ torch.cat(firsts)
        for g, part in zip(flat, ctx.parts, strict=True):
            times_back(g, part, to_x)
        to_x = to_x.view(inputs[0].shape)
        to_inputs = (to_x,) if n_inputs == 1 else gated_silu_back(to_x, *inputs)
        to_factors = (factor for pair in zip(to_firsts, to_seconds, strict=True) for factor in pair)
        return None, None, None, None, *to_inputs, *to_factors


def _rows(inputs: Sequence[Tensor]) -> Tensor:
    """Return x as rows (n, d_in)."""
    x = inputs[0] if len(inputs) == 1 else gated_silu(*inputs)
    return x.reshape(-1, x.shape[-1])
