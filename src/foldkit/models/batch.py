"""Examples for one pass through a decoder: side by side, or in one row with what they begin with alike once."""

from __future__ import annotations

import dataclasses
from collections.abc import Sequence
from dataclasses import dataclass
from typing import NamedTuple

import torch
from torch import Tensor

from .piece import Piece

# Fewer tokens than this that examples begin with alike are computed for each: to put them together costs as much.
WORTH_SHARING = 8


@dataclass(frozen=True)
class Batch:
    """Examples for one pass: ids int64 (rows, seq), `before` which of them (flat) comes before each learned token.

    Tokens after the last learned one, and that one itself, predict nothing and are left out. Each example is a row,
    padded on the right: padding needs no mask, for it stands after all real tokens, and a causal decoder never looks
    there. Or they stand in one row as `pieces`, what several begin with there once. `targets` are the learned tokens,
    int64 (n_learned,); the first token of an example, which nothing predicts, is never among them. `sizes` are how
    many each example has, or each reply where there are two to a prompt; `lengths` are the tokens of padded examples,
    and `rows` the numbers of the rows of pairs.
    """

    ids: Tensor
    before: Tensor
    targets: Tensor
    sizes: tuple[int, ...]
    lengths: tuple[int, ...] = ()
    pieces: tuple[Piece, ...] = ()
    rows: tuple[int, ...] = ()

    @property
    def n_learned(self) -> int:
        """How many tokens are predicted and learned."""
        return len(self.targets)


def pad(ids: Sequence[Sequence[int]], learned: Sequence[Sequence[bool]]) -> Batch:
    """Put examples side by side. Raises ValueError when ids and learned differ in length."""
    places = [_learned_places(row, flags) for row, flags in zip(ids, learned, strict=True)]
    lengths = tuple(max(own, default=1) for own in places)
    longest = max(lengths, default=1)
    table = torch.zeros(len(ids), longest, dtype=torch.long)
    for index, (row, n) in enumerate(zip(ids, lengths, strict=True)):
        table[index, :n] = long_tensor(row[:n])
    before = [index * longest + place - 1 for index, own in enumerate(places) for place in own]
    targets = [row[place] for row, own in zip(ids, places, strict=True) for place in own]
    return Batch(table, long_tensor(before), long_tensor(targets), tuple(map(len, places)), lengths)


def pack(ids: Sequence[Sequence[int]], learned: Sequence[Sequence[bool]], *, share: bool = True) -> Batch:
    """Put examples into one row, what they begin with and do not learn there once where it is `share`d.

    Raises ValueError when ids and learned differ in length.
    """
    row = _Row(share=share)
    for one, flags in zip(ids, learned, strict=True):
        row.add(one, _learned_places(one, flags))
    return row.batch()


class Replies(NamedTuple):
    """Two replies to one prompt, as ids, each with its end marker."""

    prompt: tuple[int, ...]
    first: tuple[int, ...]
    second: tuple[int, ...]


def pack_replies(examples: Sequence[Replies], rows: Sequence[int], *, share: bool = True) -> Batch:
    """Put prompts with two replies each into one row, as `pack` does; all tokens of the replies are learned.

    Either reply may be empty. Raises ValueError for an empty prompt, from which nothing could be predicted.
    """
    row = _Row(share=share)
    for prompt, first, second in examples:
        if not prompt:
            raise ValueError("a prompt needs at least one token")
        n = len(prompt)
        row.add(prompt + first, range(n, n + len(first)), n)
        row.go_on(n, second)
    return dataclasses.replace(row.batch(), rows=tuple(rows))


def _learned_places(ids: Sequence[int], learned: Sequence[bool]) -> list[int]:
    """Return which tokens are learned, the first never. Raises ValueError when ids and learned differ in length."""
    return [place for place, (_, flag) in enumerate(zip(ids, learned, strict=True)) if flag and place]


def long_tensor(values: Sequence[int]) -> Tensor:
    """Return whole numbers as int64 (n,), of which there may be none."""
    return torch.tensor(values, dtype=torch.long)


class _Row:
    """A row of pieces that grows by texts."""

    def __init__(self, *, share: bool) -> None:
        self.share = share
        self.ids: list[int] = []
        self.before: list[int] = []
        self.targets: list[int] = []
        self.sizes: list[int] = []
        self.pieces: list[Piece] = []
        self.starts: list[int] = []
        # Each text and the pieces that make it up, as (number, its first tokens).
        self.texts: list[tuple[Sequence[int], list[tuple[int, int]]]] = []

    def add(self, ids: Sequence[int], learned: Sequence[int], n_kept: int = 1) -> None:
        """Add a text of which the tokens at these places are learned; all before the last of them is used.

        At least `n_kept` tokens are. What it begins with before any learned one, and an earlier text too, is shared.
        """
        n_used = max(max(learned, default=0), n_kept)
        most = min(min(learned, default=n_used), n_used - 1) if self.share else 0
        n_shared, pieces = 0, list[tuple[int, int]]()
        for text, parts in self.texts:
            least = max(n_shared + 1, WORTH_SHARING)
            if least <= most and text[:least] == ids[:least]:
                n_shared, pieces = n_alike(text, ids[:most]), parts
        self._append(ids[n_shared:n_used], _first(pieces, n_shared), [p - n_shared for p in learned])
        self.texts.append((ids[:n_used], [*self.pieces[-1].before, (len(self.pieces) - 1, n_used - n_shared)]))
        self.targets += [ids[place] for place in learned]

    def go_on(self, n_first: int, ids: Sequence[int]) -> None:
        """Add a text that goes on after so many tokens of the last one, all of it learned; it may be empty."""
        before = _first(self.texts[-1][1], n_first)
        if len(ids) > 1:
            self._append(ids[:-1], before, range(len(ids)))
        elif ids:  # predicted by the last token before it
            self.before += [self._last(before)]
            self.sizes += [1]
        else:
            self.sizes += [0]
        self.targets += ids

    def _append(self, ids: Sequence[int], before: tuple[tuple[int, int], ...], learned: Sequence[int]) -> None:
        """Add a piece of these ids; tokens at these places, counted from its first, are learned."""
        start = len(self.ids)
        self.before += [start + place - 1 if place else self._last(before) for place in learned]
        self.ids += ids
        self.pieces.append(Piece(len(ids), before))
        self.starts.append(start)
        self.sizes.append(len(learned))

    def _last(self, before: Sequence[tuple[int, int]]) -> int:
        number, n = before[-1]
        return self.starts[number] + n - 1

    def batch(self) -> Batch:
        """Return the row as a batch."""
        ids, before, targets = map(long_tensor, (self.ids, self.before, self.targets))
        return Batch(ids[None], before, targets, tuple(self.sizes), pieces=tuple(self.pieces))


def n_alike(one: Sequence[int], other: Sequence[int]) -> int:
    """Return how many first tokens two texts have in common."""
    pairs = enumerate(zip(one, other, strict=False))
    return next((index for index, (a, b) in pairs if a != b), min(len(one), len(other)))


def _first(pieces: Sequence[tuple[int, int]], n_tokens: int) -> tuple[tuple[int, int], ...]:
    """Return what of these pieces makes up so many first tokens."""
    found = []
    for number, n in pieces:
        if n_tokens > 0:
            found.append((number, min(n, n_tokens)))
        n_tokens -= n
    return tuple(found)
