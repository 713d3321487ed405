"""The pieces that a row of examples is made of, and what a query of each sees."""

from __future__ import annotations

import functools
import itertools
from collections.abc import Sequence
from dataclasses import dataclass
from typing import NamedTuple

import torch
from torch import Tensor

# Weights of attention to so many keys are kept whole: for a token they take a fourth of what else a layer keeps.
FEW_KEYS = 256
# Pieces stand side by side while so much of their weights is not padding, and there are no more of them than one piece
# with as many keys may have.
_FULL, _MOST = 0.8, FEW_KEYS**2


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


class Group(NamedTuple):
    """Pieces of about one size side by side, the last token of each at the end.

    `seen` are the places of keys in the row, int64 (pieces * keys,), and the queries are the last of them; `mask`
    (pieces, 1, queries, 1, keys) is added to their products. In front of a shorter piece stands what it does not see;
    queries there see themselves alone.
    """

    numbers: tuple[int, ...]
    seen: Tensor
    mask: Tensor


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
    def _starts(self) -> list[int]:
        return [0, *itertools.accumulate(self.sizes)]

    @functools.cached_property
    def masks(self) -> list[Tensor | None]:
        """Return what is added to the products of each piece, (tokens, n_before + tokens); None for plain causal.

        0, or -inf for what is not seen.
        """
        return [self._mask(piece) for piece in self.pieces]

    @functools.cached_property
    def groups(self) -> list[Group]:
        """Return the groups of all pieces that see few keys."""
        few = [number for number, piece in enumerate(self.pieces) if piece.n_keys <= self.few_keys]
        groups: list[tuple[int, ...]] = []
        for number in sorted(few, key=lambda number: -_n_weights(self.pieces[number])):
            with_it = (*groups[-1], number) if groups else ()
            if with_it and self._fit(with_it):
                groups[-1] = with_it
            else:
                groups.append((number,))
        return [self._group(numbers) for numbers in groups]

    @functools.cached_property
    def long(self) -> list[int]:
        """Return the numbers of the other pieces."""
        return [number for number, piece in enumerate(self.pieces) if piece.n_keys > self.few_keys]

    def _fit(self, numbers: tuple[int, ...]) -> bool:
        n_queries, n_keys = self._most(numbers)
        n_all = len(numbers) * n_queries * n_keys
        return n_all <= _MOST and sum(_n_weights(self.pieces[number]) for number in numbers) >= _FULL * n_all

    def _most(self, numbers: tuple[int, ...]) -> tuple[int, int]:
        """Return the most tokens of these pieces, and the most keys."""
        pieces = [self.pieces[number] for number in numbers]
        return max(piece.n_tokens for piece in pieces), max(piece.n_keys for piece in pieces)

    def _group(self, numbers: tuple[int, ...]) -> Group:
        n_queries, n_keys = self._most(numbers)
        causal = last_ones_mask(n_queries, n_keys, self.window, self.device)
        itself = torch.ones(n_queries, n_keys, dtype=torch.bool, device=self.device).triu(n_keys - n_queries) & causal
        key = torch.arange(n_keys, device=self.device)
        masks = [self._as_added(causal & (key >= n_keys - self.pieces[number].n_keys) | itself) for number in numbers]
        seen = [place for number in numbers for place in self._places(number, n_keys)]
        return Group(numbers, torch.tensor(seen, device=self.device), torch.stack(masks)[:, None, :, None])

    def _places(self, number: int, n_keys: int) -> list[int]:
        """Return the places of what a piece sees, and in front of them its first token until there are so many."""
        piece = self.pieces[number]
        places = [self._starts[number]] * (n_keys - piece.n_keys)
        for other, n in (*piece.before, (number, piece.n_tokens)):
            places += range(self._starts[other], self._starts[other] + n)
        return places

    def _mask(self, piece: Piece) -> Tensor | None:
        if piece.before or 0 < self.window < piece.n_tokens:
            return self._as_added(last_ones_mask(piece.n_tokens, piece.n_keys, self.window, self.device))
        return None

    def _as_added(self, seen: Tensor) -> Tensor:
        return torch.zeros(seen.shape, dtype=self.dtype, device=self.device).masked_fill_(~seen, float("-inf"))


def _n_weights(piece: Piece) -> int:
    return piece.n_tokens * piece.n_keys


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
