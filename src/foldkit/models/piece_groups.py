"""Pieces of about one size side by side, so that one product serves them all, and where their rows stand.

Heads of a row of tokens are (tokens, n + 2 n_kv, size): queries, keys, values. What a product is made of is taken from
there, and what it gives is put back, by the numbers of rows of that size.
"""

from __future__ import annotations

import itertools
from collections.abc import Sequence
from typing import NamedTuple

import torch
from torch import Tensor
from torch.nn import functional

from .piece import Piece, added_mask, last_ones_mask

# Pieces stand side by side while so much of their weights is not padding.
_FULL = 0.8


class Group(NamedTuple):
    """Pieces side by side, the last token of each at the end; in front of a shorter one stands what it does not see.

    Rows, int64: `queries` (pieces * n_kv * queries * n / n_kv,) and `seen` (2 * pieces * n_kv * keys,), keys and then
    values, among heads; `mixed`, where what queries give belongs among mixed values (tokens, n, size). `padding` are
    those of the queries that stand in front; they see themselves alone. `mask` (pieces, 1, queries, 1, keys) is added
    to the products.
    """

    numbers: tuple[int, ...]
    queries: Tensor
    mixed: Tensor
    padding: Tensor
    seen: Tensor
    mask: Tensor


class Sums(NamedTuple):
    """Which rows of one matrix come to each row of another: those of all, one after the other, and where each starts.

    int64 (rows,) and (n,).
    """

    rows: Tensor
    starts: Tensor

    def of(self, found: Tensor) -> Tensor:
        """Return the sums (n, size) of rows of `found` (rows, size), 0 where there are none."""
        return functional.embedding_bag(self.rows, found, self.starts, mode="sum")


class Groups(NamedTuple):
    """Groups, and what rows of what they give come to those of a whole row of pieces.

    `mixed`: for each of mixed values (tokens * n), among those of the queries of all groups. `heads`: for each gradient
    to heads (tokens * (n + 2 n_kv)), among those to the queries and to what is seen of each group in turn; a key has
    one from each piece that sees it.
    """

    groups: tuple[Group, ...]
    mixed: Sums
    heads: Sums


def alike(pieces: Sequence[Piece], numbers: Sequence[int], most: int) -> list[tuple[int, ...]]:
    """Return numbers of pieces in groups of about one size, of at most so many weights of attention in all."""
    found: list[tuple[int, ...]] = []
    for number in sorted(numbers, key=lambda number: -_n_weights(pieces[number])):
        with_it = (*found[-1], number) if found else ()
        if with_it and _fit([pieces[number] for number in with_it], most):
            found[-1] = with_it
        else:
            found.append((number,))
    return found


def _fit(pieces: Sequence[Piece], most: int) -> bool:
    n_queries, n_keys = _size(pieces)
    n_all = len(pieces) * n_queries * n_keys
    return n_all <= most and sum(map(_n_weights, pieces)) >= _FULL * n_all


def _n_weights(piece: Piece) -> int:
    return piece.n_tokens * piece.n_keys


def _size(pieces: Sequence[Piece]) -> tuple[int, int]:
    """Return the most tokens of these pieces, and the most keys."""
    return max(piece.n_tokens for piece in pieces), max(piece.n_keys for piece in pieces)


def side_by_side(
    pieces: Sequence[Piece], groups: Sequence[tuple[int, ...]], heads: tuple[int, int], window: int, dtype: torch.dtype
) -> Groups:
    """Return the groups of pieces of a row with these numbers. `heads`: how many queries have, and keys."""
    n, n_kv = heads
    n_tokens, tokens, made = sum(piece.n_tokens for piece in pieces), _seen(pieces), list[Group]()
    n_mixed, n_heads = n_tokens * n, n_tokens * (n + 2 * n_kv)
    to_mixed, to_heads = list[Tensor](), list[Tensor]()
    for numbers in groups:
        parts = [(pieces[number], tokens[number]) for number in numbers]
        group, is_own, is_seen = _group(numbers, parts, heads, window, dtype)
        to_mixed += [group.mixed.where(is_own, n_mixed)]
        to_heads += [group.queries.where(is_own, n_heads), group.seen.where(is_seen, n_heads)]
        made.append(group)
    return Groups(tuple(made), _sums(n_mixed, to_mixed), _sums(n_heads, to_heads))


def _sums(n: int, to: Sequence[Tensor]) -> Sums:
    """Return what comes to each of n rows, from the row that each of these comes to, n where it comes to none."""
    every = torch.cat([torch.zeros(0, dtype=torch.long), *to])
    sizes = torch.bincount(every, minlength=n + 1)[:n]
    return Sums(every.argsort(stable=True)[: int(sizes.sum())], sizes.cumsum(0) - sizes)


def _group(
    numbers: tuple[int, ...],
    parts: Sequence[tuple[Piece, list[int]]],
    heads: tuple[int, int],
    window: int,
    dtype: torch.dtype,
) -> tuple[Group, Tensor, Tensor]:
    """Return a group, and which rows of its queries, and of what is seen, are no padding.

    `parts` are its pieces, and the tokens that each sees; in front of fewer ones stands the piece's first.
    """
    n, n_kv = heads
    n_queries, n_keys = _size([piece for piece, _ in parts])
    tokens = torch.tensor([[seen[piece.n_before]] * (n_keys - len(seen)) + seen for piece, seen in parts])
    key = torch.arange(n_keys)
    is_own = key >= n_keys - torch.tensor([piece.n_tokens for piece, _ in parts])[:, None]
    is_seen = key >= n_keys - torch.tensor([piece.n_keys for piece, _ in parts])[:, None]
    causal = last_ones_mask(n_queries, n_keys, window, None)
    itself = key[n_keys - n_queries :, None] == key
    mask = added_mask(causal & is_seen[:, None] | itself, dtype)

    def by_query(values: Tensor) -> Tensor:
        return values[:, n_keys - n_queries :][:, None, :, None].expand(-1, n_kv, -1, n // n_kv)

    def by_key(values: Tensor) -> Tensor:
        return values[None, :, None].expand(2, -1, n_kv, -1)

    query, seen = torch.arange(n).view(n_kv, 1, -1), torch.arange(n, n + 2 * n_kv).view(2, 1, n_kv, 1)
    of_heads = tokens * (n + 2 * n_kv)
    rows = [by_query(of_heads) + query, by_query(tokens * n) + query, by_key(of_heads) + seen]
    queries, mixed, keys = (part.flatten() for part in rows)
    own = by_query(is_own).flatten()
    padding = own.logical_not().nonzero()[:, 0]
    return Group(numbers, queries, mixed, padding, keys, mask[:, None, :, None]), own, by_key(is_seen).flatten()


def _seen(pieces: Sequence[Piece]) -> list[list[int]]:
    """Return the tokens that each piece sees: what stands before it, and its own."""
    starts, found = [0, *itertools.accumulate(piece.n_tokens for piece in pieces)], []
    for number, piece in enumerate(pieces):
        parts = (*piece.before, (number, piece.n_tokens))
        found.append([token for other, n in parts for token in range(starts[other], starts[other] + n)])
    return found
