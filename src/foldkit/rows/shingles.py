"""Texts as sets of shingles, pieces of a few characters, each as a number: all of many texts in two arrays."""

from __future__ import annotations

import itertools
from collections.abc import Iterator, Sequence
from typing import NamedTuple

import numpy as np

SHINGLE = 5
# Characters that are hashed at once, so that they stay in the processor's caches.
_AT_ONCE = 200_000
# Odd numbers to mix with, as good as any: letters come one after another by the first, sums are stirred by both.
_FIRST, _SECOND = np.uint64(0x9E3779B97F4A7C15), np.uint64(0xBF58476D1CE4E5B9)


class Shingles(NamedTuple):
    """The different shingles of texts one after the other, each text's in order, and where each text's begin.

    `numbers` are int64 from 0, `starts` int64 (n_texts + 1,). Two shingles have one number by a chance of 1 to 2**63.
    """

    numbers: np.ndarray
    starts: np.ndarray

    @property
    def sizes(self) -> np.ndarray:
        """How many shingles each text has, int64 (n_texts,)."""
        return np.diff(self.starts)


def shingles_of(texts: Sequence[str]) -> Shingles:
    """Return the shingles of texts; one that is shorter than a shingle has itself alone."""
    numbers = np.empty(int(_lengths(texts).sum()), np.int64)  # room for all; what is not written takes no memory
    sizes, n = np.zeros(len(texts) + 1, np.int64), 0
    for part in few_at_once(texts):
        found = shingles_of_few(texts[part])
        numbers[n : n + len(found.numbers)] = found.numbers
        sizes[1:][part] = found.sizes
        n += len(found.numbers)
    return Shingles(numbers[:n], np.cumsum(sizes))


def few_at_once(texts: Sequence[str]) -> Iterator[slice]:
    """Yield slices of texts that have few shingles together, or are a single one."""
    lengths = _lengths(texts)
    ends, begin = np.cumsum(lengths), 0
    while begin < len(texts):
        most = ends[begin] - lengths[begin] + _AT_ONCE
        end = max(begin + 1, int(np.searchsorted(ends, most, side="right")))
        yield slice(begin, end)
        begin = end


def _lengths(texts: Sequence[str]) -> np.ndarray:
    return np.array([max(len(text), SHINGLE) for text in texts], dtype=np.int64)


def shingles_of_few(texts: Sequence[str]) -> Shingles:
    """Return what `shingles_of` does of texts that are short enough, together, to be hashed at once."""
    lengths, joined = _lengths(texts), "".join(text.ljust(SHINGLE, "\0") for text in texts)
    letters = np.frombuffer(joined.encode("utf-32-le", "surrogatepass"), dtype="<u4").astype(np.uint64)
    n = len(letters) - SHINGLE + 1
    hashed = np.zeros(n, np.uint64)
    for place in range(SHINGLE):
        hashed = hashed * _FIRST + letters[place : n + place]
    hashed = (hashed ^ hashed >> np.uint64(31)) * _FIRST
    hashed = (hashed ^ hashed >> np.uint64(29)) * _SECOND
    text = np.repeat(np.arange(len(lengths)), lengths)[:n]
    inside = np.arange(n) + SHINGLE <= np.cumsum(lengths)[text]
    found, text = (hashed[inside] >> np.uint64(1)).astype(np.int64), text[inside]
    for start, end in itertools.pairwise(np.searchsorted(text, np.arange(len(lengths) + 1)).tolist()):
        found[start:end].sort()
    new = np.ones(len(found), dtype=bool)
    new[1:] = (found[1:] != found[:-1]) | (text[1:] != text[:-1])
    sizes = np.bincount(text[new], minlength=len(lengths))
    return Shingles(found[new], np.concatenate([[0], np.cumsum(sizes)]))
