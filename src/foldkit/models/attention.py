"""Attention of queries to keys: plain, bounded, and within a window. Plain functions of tensors."""

from __future__ import annotations

import torch
from torch import Tensor
from torch.nn import functional

from .bounded_attention import Bound, attend_bounded
from .piece import last_ones_mask, with_before
from .pieces import Pieces


def attend(query: Tensor, key: Tensor, value: Tensor, mask: Tensor | None, scale: float, cap: float) -> Tensor:
    """Return the values mixed by the softmax of scale * query · key, (batch, n_heads, seq, head_dim).

    query: (batch, n_heads, seq, head_dim); key, value: (batch, n_kv_heads, keys, head_dim). mask: bool
    (batch, 1, seq, keys), or what is added to the products; None for plain causal with as many keys as queries, or for
    one query that sees all keys.
    A cap above 0 bounds the products by cap * tanh(x / cap) (Bello et al. 2017, section 5.1).
    """
    if query.shape[2] == 1 and query.shape[1] != key.shape[1]:
        # The heads of a group as if they followed one another, for all of them see the same keys.
        rows = query.reshape(len(query), key.shape[1], -1, query.shape[3])
        return _mixed(rows, key, value, mask, scale, cap, causal=False).reshape(query.shape)
    return _mixed(query, key, value, mask, scale, cap, causal=mask is None and query.shape[2] > 1)


def _mixed(
    query: Tensor, key: Tensor, value: Tensor, mask: Tensor | None, scale: float, cap: float, *, causal: bool
) -> Tensor:
    n_kv_heads = key.shape[1]
    if not cap:
        grouped = query.shape[1] != n_kv_heads
        return functional.scaled_dot_product_attention(
            query, key, value, attn_mask=mask, is_causal=causal, scale=scale, enable_gqa=grouped
        )
    # One mask for all heads: with an axis for those of a group.
    of_groups = mask[:, :, None] if mask is not None and mask.dim() == 4 else mask
    bound = Bound(scale, cap, causal)
    return attend_bounded(
        query.view(len(query), n_kv_heads, -1, *query.shape[2:]), key, value, of_groups, bound
    ).flatten(1, 2)


def attend_pieces(query: Tensor, key: Tensor, value: Tensor, pieces: Pieces, scale: float, cap: float) -> Tensor:
    """Attend in each piece of one row by itself and what stands before it; as `attend`, with a batch of 1."""
    # A value of its own: as a part of a larger product it would keep all of that in memory for the way back.
    queries, keys, values = (t.split_with_sizes(pieces.sizes, dim=2) for t in (query, key, value.contiguous()))
    mixed = []
    for index, (piece, mask) in enumerate(zip(pieces.pieces, pieces.masks, strict=True)):
        key_seen, value_seen = (with_before(parts, index, piece) for parts in (keys, values))
        mixed.append(attend(queries[index], key_seen, value_seen, mask, scale, cap))
    return torch.cat(mixed, dim=2)


def window_mask(mask: Tensor | None, window: int, n_queries: int, n_keys: int, device: torch.device) -> Tensor | None:
    """Return the mask of a layer whose queries look at most `window` keys back, themselves counted; 0 for all.

    The queries are the last of the keys. mask is as in `attend`; None comes back where the window hides nothing.
    """
    if not window or window >= n_keys:
        return mask
    if mask is None:
        return last_ones_mask(n_queries, n_keys, window, device)[None, None]
    query = torch.arange(n_keys - n_queries, n_keys, device=device)[:, None]
    return (torch.arange(n_keys, device=device)[None] > query - window)[None, None] & mask
