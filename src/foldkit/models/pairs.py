"""Low-rank pairs beside the products of maps of one input, and their way back: every product once, sums in place.

y_i = x W_i' + l_i B_i' with l_i = x A_i'. With g_i the gradient to y_i: the gradient to B_i is g_i' l_i, to A_i h_i' x
with h_i = g_i B_i, and to x, beside that of the products, the sum of h_i A_i (Hu et al. 2021, eq. 3, chain rule).
Pairs may be wider than x and y: what is narrower is widened as it is used, so that none of it is kept twice.
With dropout the pairs are given what of x stays, times a scale, and the gradient to x goes the same way back.
"""

from __future__ import annotations

from collections.abc import Sequence

import torch
from torch import Tensor

# A (rank, d_in) and B (d_out, rank), in which any scale is contained.
Pair = tuple[Tensor, Tensor]


def add_pairs(ys: Sequence[Tensor], low: Tensor, pairs: Sequence[Pair]) -> None:
    """Add l B' to each y (n, d_out) in place; `low` are all l side by side, as `low_of` gives them."""
    for y, one, (_, b) in zip(ys, _by_rank(low, pairs), pairs, strict=True):
        if y.dtype == b.dtype:
            y.addmm_(one, b.T)
        else:
            y.add_(one @ b.T)


def low_of(x: Tensor, pairs: Sequence[Pair], stays: Tensor | None = None, scale: float = 1.0) -> Tensor:
    """Return l = x A' of each pair for x (n, d_in), times a scale, side by side, (n, ranks).

    `stays` (n, d_in) is what of x stays, 1 or 0, all where it is None.
    """
    firsts = _firsts(pairs)
    low = _staying(x.to(firsts.dtype), stays) @ firsts.T
    return low if scale == 1 else low.mul_(scale)


def pairs_back(
    to_ys: Sequence[Tensor],
    x: Tensor,
    low: Tensor,
    pairs: Sequence[Pair],
    stays: Tensor | None = None,
    scale: float = 1.0,
) -> tuple[Tensor, list[Tensor]]:
    """Return the gradients to x, without that of the products, and to A and B of each pair in turn."""
    highs, to_seconds = [], []
    for narrow, one, (_, b) in zip(to_ys, _by_rank(low, pairs), pairs, strict=True):
        to_y = narrow.to(low.dtype)
        highs.append(to_y @ b)
        to_seconds.append((one.T @ to_y).T)  # the few rows on the left: on a CPU that takes half the time
    high = torch.cat(highs, dim=1)
    if scale != 1:
        high.mul_(scale)
    to_firsts = (high.T @ _staying(x.to(low.dtype), stays)).split_with_sizes([len(a) for a, _ in pairs])
    factors = [factor for both in zip(to_firsts, to_seconds, strict=True) for factor in both]
    return _staying(high @ _firsts(pairs), stays).to(x.dtype), factors


def _staying(x: Tensor, stays: Tensor | None) -> Tensor:
    return x if stays is None else x * stays


def _firsts(pairs: Sequence[Pair]) -> Tensor:
    return pairs[0][0] if len(pairs) == 1 else torch.cat([a for a, _ in pairs])


def _by_rank(low: Tensor, pairs: Sequence[Pair]) -> Sequence[Tensor]:
    return low.split_with_sizes([len(a) for a, _ in pairs], dim=1)
