"""Attention of queries to keys: plain, bounded, and within a window. Plain functions of tensors."""

from __future__ import annotations

import functools
from collections.abc import Sequence
from dataclasses import dataclass
from typing import NamedTuple

import torch
from torch import Tensor
from torch.nn import functional


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
        products = products + mask if mask.is_floating_point() else products.masked_fill(~mask, float("-inf"))
    return torch.softmax(products, dim=-1) @ value


# Weights of attention to so many keys are kept whole: for a token they take a fourth of what else a layer keeps.
FEW_KEYS = 256


class Piece(NamedTuple):
    """A stretch of a row of examples: how many tokens it has, and what stands before it as its tokens see it.

    An example is a piece, or goes on after the beginning of others: `before` are numbers of earlier pieces, and how
    many of their first tokens are meant. So a second reply goes on after the prompt of the first.
    """

    n_tokens: int
    before: tuple[tuple[int, int], ...] = ()

    @property
    def n_before(self) -> int:
        """How many tokens stand before it."""
        return sum(n for _, n in self.before)


@dataclass(frozen=True)
class Pieces:
    """The pieces of one row, and how many keys back a query may look, 0 for all.

    Weights of attention may be kept whole for pieces that see `few_keys` at most.
    """

    pieces: tuple[Piece, ...]
    window: int = 0
    few_keys: int = 0
    dtype: torch.dtype = torch.float32
    device: torch.device | None = None

    @functools.cached_property
    def sizes(self) -> list[int]:
        """Return the tokens of each piece."""
        return [piece.n_tokens for piece in self.pieces]

    @functools.cached_property
    def masks(self) -> list[Tensor | None]:
        """Return what is added to the products of each piece, (tokens, n_before + tokens); None for plain causal.

        0, or -inf for what is not seen.
        """
        return [self._mask(piece) for piece in self.pieces]

    @functools.cached_property
    def small_masks(self) -> list[Tensor | None]:
        """Return the same of pieces that see few keys, of plain causal ones too; None for the others."""
        few = [piece.n_before + piece.n_tokens <= self.few_keys for piece in self.pieces]
        given = zip(self.pieces, self.masks, few, strict=True)
        return [(self._added(piece) if mask is None else mask) if small else None for piece, mask, small in given]

    def _mask(self, piece: Piece) -> Tensor | None:
        if piece.before or 0 < self.window < piece.n_tokens:
            return self._added(piece)
        return None

    def _added(self, piece: Piece) -> Tensor:
        seen = _last_ones_mask(piece.n_tokens, piece.n_before + piece.n_tokens, self.window, self.device)
        return torch.zeros(seen.shape, dtype=self.dtype, device=self.device).masked_fill_(~seen, float("-inf"))


def piece_positions(pieces: Sequence[Piece], device: torch.device) -> Tensor:
    """Return the position of every token of a row of pieces, int64 (tokens,)."""
    starts = ((piece.n_before, piece.n_before + piece.n_tokens) for piece in pieces)
    return torch.cat([torch.arange(start, end, device=device) for start, end in starts])


def attend_pieces(query: Tensor, key: Tensor, value: Tensor, pieces: Pieces, scale: float, cap: float) -> Tensor:
    """Attend in each piece of one row by itself and what stands before it; as `attend`, with a batch of 1."""
    # A value of its own: as a part of a larger product it would keep all of that in memory for the way back.
    queries, keys, values = (t.split_with_sizes(pieces.sizes, dim=2) for t in (query, key, value.contiguous()))
    mixed = []
    for index, (piece, mask) in enumerate(zip(pieces.pieces, pieces.masks, strict=True)):
        key_seen, value_seen = (with_before(parts, index, piece) for parts in (keys, values))
        mixed.append(attend(queries[index], key_seen, value_seen, mask, scale, cap))
    return torch.cat(mixed, dim=2)


def with_before(parts: Sequence[Tensor], index: int, piece: Piece) -> Tensor:
    """Return the part of a piece and, in front of it, those of what stands before it, each (..., tokens, head_dim)."""
    if not piece.before:
        return parts[index]
    return torch.cat([*(parts[other][..., :n, :] for other, n in piece.before), parts[index]], dim=-2)


def _last_ones_mask(n_queries: int, n_keys: int, window: int, device: torch.device | None) -> Tensor:
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
