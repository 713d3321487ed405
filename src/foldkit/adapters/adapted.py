"""Adapted maps of one input with a way back written by hand: products and pairs as in `foldkit.models.pairs`."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

import torch
from torch import Tensor

from foldkit.models.gating import gated_silu, gated_silu_back
from foldkit.models.held import Matrix, times, times_back
from foldkit.models.pairs import Pair, add_pairs, pairs_back


def adapted(
    inputs: tuple[Tensor, ...], whole: Matrix, parts: Sequence[Matrix], factors: Sequence[Tensor]
) -> tuple[Tensor, ...]:
    """Return y_i (..., d_out_i) for x (..., d_in); gradients go to the inputs and to the factors alone.

    `inputs` are x itself, or gate and up of x = silu(gate) * up, which is made again on the way back rather than kept.

    `whole` is all matrices `parts`, (d_out_i, d_in), one below the other; `factors` are A_1 (rank_1, d_in), B_1
    (d_out_1, rank_1), A_2, and so on.
    """
    found: tuple[Tensor, ...] = _Adapted.apply(whole, parts, len(inputs), *inputs, *factors)  # type: ignore[no-untyped-call]
    return found


class _Adapted(torch.autograd.Function):
    @staticmethod
    def forward(
        ctx: Any, whole: Matrix, parts: Sequence[Matrix], n_inputs: int, *tensors: Tensor
    ) -> tuple[Tensor, ...]:
        inputs, factors = tensors[:n_inputs], tensors[n_inputs:]
        rows, pairs = _rows(inputs), _pairs(factors)
        ys = times(rows, whole).split_with_sizes([len(b) for _, b in pairs], dim=1)
        low = add_pairs(ys, rows, pairs)
        ctx.parts, ctx.n_inputs = parts, n_inputs
        ctx.save_for_backward(*inputs, low, *factors)
        return tuple(y.view(*inputs[0].shape[:-1], y.shape[1]) for y in ys)

    @staticmethod
    def backward(ctx: Any, *gradients: Tensor) -> tuple[Any, ...]:
        saved = ctx.saved_tensors  # asked for once: with layers computed again, they are given once
        inputs, (low, *factors) = saved[: ctx.n_inputs], saved[ctx.n_inputs :]
        rows = _rows(inputs)
        flat = [gradient.reshape(len(rows), -1) for gradient in gradients]
        to_x, to_factors = pairs_back(flat, rows, low, _pairs(factors))
        for g, part in zip(flat, ctx.parts, strict=True):
            times_back(g, part, to_x)
        to_x = to_x.view(inputs[0].shape)
        to_inputs = (to_x,) if len(inputs) == 1 else gated_silu_back(to_x, *inputs)
        return None, None, None, *to_inputs, *to_factors


def _pairs(factors: Sequence[Tensor]) -> list[Pair]:
    return list(zip(factors[::2], factors[1::2], strict=True))


def _rows(inputs: Sequence[Tensor]) -> Tensor:
    """Return x as rows (n, d_in)."""
    x = inputs[0] if len(inputs) == 1 else gated_silu(*inputs)
    return x.reshape(-1, x.shape[-1])
