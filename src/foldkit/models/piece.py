"""A stretch of a row of examples, and what its tokens see of what stands before it."""

from __future__ import annotations

from collections.abc import Sequence
from typing import NamedTuple

import torch
from torch import Tensor


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

    @property
    def n_keys(self) -> int:
        """How many keys its last token sees, where it sees all."""
        return self.n_before + self.n_tokens


def piece_positions(pieces: Sequence[Piece], device: torch.device) -> Tensor:
    """Return the position of every token of a row of pieces, int64 (tokens,)."""
    return torch.cat([torch.arange(piece.n_before, piece.n_keys, device=device) for piece in pieces])


def with_before(parts: Sequence[Tensor], index: int, piece: Piece) -> Tensor:
    """Return the part of a piece and, in front of it, those of what stands before it, each (..., tokens, head_dim)."""
    if not piece.before:
        return parts[index]
    return torch.cat([*(parts[other][..., :n, :] for other, n in piece.before), parts[index]], dim=-2)


def last_ones_mask(n_queries: int, n_keys: int, window: int, device: torch.device | None) -> Tensor:
    """Return the causal mask, (n_queries, n_keys), of queries that are the last of the keys."""
    query = torch.arange(n_keys - n_queries, n_keys, device=device)[:, None]
    key = torch.arange(n_keys, device=device)[None]
    seen = key <= query
    return seen & (key > query - window) if window else seen


def added_mask(seen: Tensor, dtype: torch.dtype) -> Tensor:
    """Return what is added to products, 0 or -inf for what is not seen, from a mask of what is."""
    return torch.zeros(seen.shape, dtype=dtype, device=seen.device).masked_fill_(~seen, float("-inf"))
