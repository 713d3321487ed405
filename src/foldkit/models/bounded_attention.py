"""Attention whose products are bounded, cap * tanh(x / cap) (Bello et al. 2017, section 5.1), a few queries at a time.

Nothing that grows with the pairs of tokens is kept. With t = tanh(s Q K' / cap), P = softmax(cap t + mask) and
O = P V: the gradient to V is P' dO; with dS the gradient through the softmax of dO V', times 1 - t², that to Q is
s dS K and that to K is s dS' Q (chain rule).
"""

from __future__ import annotations

from collections.abc import Iterator
from typing import Any, NamedTuple

import torch
from torch import Tensor

# Weights that stand in memory at once.
_AT_ONCE = 2**22
softmax_back = torch.ops.aten._softmax_backward_data


class Bound(NamedTuple):
    """What products of queries and keys are multiplied by, and then bounded by; whether a query sees no later key."""

    scale: float
    cap: float
    causal: bool


def attend_bounded(query: Tensor, key: Tensor, value: Tensor, mask: Tensor | None, bound: Bound) -> Tensor:
    """Return the values mixed for each query, with gradients: in the shape of the query, as `bounded`."""
    if not torch.is_grad_enabled():
        return bounded(query, key, value, mask, bound)
    out: Tensor = _Bounded.apply(query, key, value, mask, bound)  # type: ignore[no-untyped-call]
    return out


def bounded(query: Tensor, key: Tensor, value: Tensor, mask: Tensor | None, bound: Bound) -> Tensor:
    """Return the values mixed for each query, (..., group, queries, size).

    query: (..., group, queries, size), those of a group see the same keys. key, value: (..., keys, size). mask: bool,
    True for what is seen, or what is added to the products; of a shape that expands to (..., group, queries, keys).
    """
    out = torch.empty_like(query)
    for which in _chunks(query, key):
        _, weights = _weights(query[..., which, :], key, _of(mask, which), bound, which)
        n_keys = weights.shape[-1]
        rows = weights.flatten(-3, -2) @ value[..., :n_keys, :]
        out[..., which, :] = rows.view(*weights.shape[:-1], -1)
    return out


def bounded_back(
    to_out: Tensor, query: Tensor, key: Tensor, value: Tensor, mask: Tensor | None, bound: Bound
) -> tuple[Tensor, Tensor, Tensor]:
    """Return the gradients to query, key and value from the one to what `bounded` gave."""
    to_query, to_key, to_value = torch.empty_like(query), torch.zeros_like(key), torch.zeros_like(value)
    for which in _chunks(query, key):
        queries, to_rows = query[..., which, :], to_out[..., which, :].flatten(-3, -2)
        bounds, weights = _weights(queries, key, _of(mask, which), bound, which)
        flat, n_keys = weights.flatten(-3, -2), weights.shape[-1]
        to_value[..., :n_keys, :] += flat.transpose(-1, -2) @ to_rows
        to_weights = to_rows @ value[..., :n_keys, :].transpose(-1, -2)
        to_products = softmax_back(to_weights, flat, -1, flat.dtype) * (1 - bounds.flatten(-3, -2).square())
        to_products *= bound.scale
        to_query[..., which, :] = (to_products @ key[..., :n_keys, :]).view(queries.shape)
        to_key[..., :n_keys, :] += to_products.transpose(-1, -2) @ queries.flatten(-3, -2)
    return to_query, to_key, to_value


def _chunks(query: Tensor, key: Tensor) -> Iterator[slice]:
    """Yield slices of queries whose weights may stand in memory at once."""
    n_queries = query.shape[-2]
    size = max(1, _AT_ONCE // max(1, query[..., :1, 0].numel() * key.shape[-2]))
    return (slice(start, min(start + size, n_queries)) for start in range(0, n_queries, size))


def _of(mask: Tensor | None, which: slice) -> Tensor | None:
    """Return the mask of some queries."""
    return mask if mask is None or mask.shape[-2] == 1 else mask[..., which, :]


def _weights(query: Tensor, key: Tensor, mask: Tensor | None, bound: Bound, which: slice) -> tuple[Tensor, Tensor]:
    """Return t and the weights of some queries, (..., group, queries, keys), of the keys that any of them sees."""
    if bound.causal:
        key = key[..., : which.stop, :]
    rows = query.flatten(-3, -2) * (bound.scale / bound.cap)
    bounds = (rows @ key.transpose(-1, -2)).tanh_().view(*query.shape[:-1], -1)
    products = bounds * bound.cap
    if bound.causal:
        later = torch.ones(products.shape[-2:], dtype=torch.bool, device=key.device).triu_(which.start + 1)
        products.masked_fill_(later, float("-inf"))
    elif mask is not None:
        products = products + mask if mask.is_floating_point() else products.masked_fill_(~mask, float("-inf"))
    return bounds, torch.softmax(products, dim=-1)


class _Bounded(torch.autograd.Function):
    @staticmethod
    def forward(ctx: Any, query: Tensor, key: Tensor, value: Tensor, mask: Tensor | None, bound: Bound) -> Tensor:
        ctx.bound = bound
        ctx.save_for_backward(query, key, value, mask)
        return bounded(query, key, value, mask, bound)

    @staticmethod
    def backward(ctx: Any, *gradients: Tensor) -> tuple[Tensor | None, ...]:
        query, key, value, mask = ctx.saved_tensors
        return *bounded_back(gradients[0], query, key, value, mask, ctx.bound), None, None
