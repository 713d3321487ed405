"""Attention of queries to keys: plain, bounded, and within a window. Plain functions of tensors."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import NamedTuple

import torch
from torch import Tensor
from torch.nn import functional


def attend(query: Tensor, key: Tensor, value: Tensor, mask: Tensor | None, scale: float, cap: float) -> Tensor:
    """Return the values mixed by the softmax of scale * query · key, (batch, n_heads, seq, head_dim).

    query: (batch, n_heads, seq, head_dim); key, value: (batch, n_kv_heads, keys, head_dim). mask: bool
    (batch, 1, seq, keys); None for plain causal with as many keys as queries, or for one query that sees all keys.
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
    grouped = query.shape[1] != key.shape[1]
    if not cap:
        return functional.scaled_dot_product_attention(
            query, key, value, attn_mask=mask, is_causal=causal, scale=scale, enable_gqa=grouped
        )
    if grouped:
        n_times = query.shape[1] // key.shape[1]
        key, value = key.repeat_interleave(n_times, dim=1), value.repeat_interleave(n_times, dim=1)
    if causal:
        mask = torch.ones(query.shape[2], key.shape[2], dtype=torch.bool, device=query.device).tril()
    products = cap * torch.tanh(query @ key.transpose(-1, -2) * scale / cap)
    if mask is not None:
        products = products.masked_fill(~mask, float("-inf"))
    return torch.softmax(products, dim=-1) @ value


class Fork(NamedTuple):
    """An example with two replies to one prompt: the tokens of the prompt, then those of the first reply."""

    n_prompt: int
    n_first: int


@dataclass(frozen=True)
class Pieces:
    """Lengths of examples in one row, and how many keys back a query may look, 0 for all.

    With `forks`, one for each example, two replies stand after each prompt, which do not see one another.
    """

    lengths: tuple[int, ...]
    window: int = 0
    forks: tuple[Fork, ...] = ()


def piece_positions(lengths: Sequence[int], forks: Sequence[Fork], device: torch.device) -> Tensor:
    """Return the position of every token of a row of examples, int64 (tokens,), that of a second reply as a first's."""
    found = []
    for index, length in enumerate(lengths):
        fork = forks[index] if forks else Fork(length, 0)
        first = min(length, sum(fork))
        found += [torch.arange(first, device=device)]
        found += [torch.arange(fork.n_prompt, fork.n_prompt + length - first, device=device)]
    return torch.cat(found)


def attend_pieces(query: Tensor, key: Tensor, value: Tensor, pieces: Pieces, scale: float, cap: float) -> Tensor:
    """Attend in each example of one row by itself; shapes as in `attend`, with a batch of 1."""
    # A value of its own: as a part of a larger product it would keep all of that in memory for the way back.
    value = value.contiguous()
    parts = (tensor.split_with_sizes(pieces.lengths, dim=2) for tensor in (query, key, value))
    mixed = []
    for index, (one_query, one_key, one_value) in enumerate(zip(*parts, strict=True)):
        n = one_query.shape[2]
        m = sum(pieces.forks[index]) if pieces.forks else n
        mask = window_mask(None, pieces.window, m, m, query.device)
        mixed.append(attend(one_query[:, :, :m], one_key[:, :, :m], one_value[:, :, :m], mask, scale, cap))
        if m < n:  # the second reply, which sees the prompt and itself
            n_prompt = pieces.forks[index].n_prompt
            key_seen, value_seen = (torch.cat((t[:, :, :n_prompt], t[:, :, m:]), dim=2) for t in (one_key, one_value))
            mask = _last_ones_mask(n - m, n - m + n_prompt, pieces.window, query.device)
            mixed.append(attend(one_query[:, :, m:], key_seen, value_seen, mask, scale, cap))
    return torch.cat(mixed, dim=2)


def _last_ones_mask(n_queries: int, n_keys: int, window: int, device: torch.device) -> Tensor:
    """Return the causal mask, (n_queries, n_keys), of queries that are the last of the keys."""
    query = torch.arange(n_keys - n_queries, n_keys, device=device)[:, None]
    key = torch.arange(n_keys, device=device)[None]
    seen = key <= query
    return seen & (key > query - window) if window else seen


def window_mask(mask: Tensor | None, window: int, n_queries: int, n_keys: int, device: torch.device) -> Tensor | None:
    """Return the mask of a layer whose queries look at most `window` keys back, themselves counted; 0 for all.

    The queries are the last of the keys. mask is as in `attend`; None comes back where the window hides nothing.
    """
    if not window or window >= n_keys:
        return mask
    if mask is None:
        return _last_ones_mask(n_queries, n_keys, window, device)[None, None]
    query = torch.arange(n_keys - n_queries, n_keys, device=device)[:, None]
    return (torch.arange(n_keys, device=device)[None] > query - window)[None, None] & mask
