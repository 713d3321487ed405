"""Texts as sets of shingles, pieces of a few characters, each as a number: all of many texts in two arrays."""

from __future__ import annotations

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

    def parts(self) -> Iterator[slice]:
        """Yield slices of texts that have few shingles together, or are a single one."""
        return _parts(self.starts)


def shingles_of(texts: Sequence[str]) -> Shingles:
    """Return the shingles of texts; one that is shorter than a shingle has itself alone."""
    whole = [text.ljust(SHINGLE, "\0") for text in texts]
    lengths = np.array([len(text) for text in whole], dtype=np.int64)
    numbers, sizes = [np.empty(0, np.int64)], [np.zeros(1, np.int64)]
    for part in _parts(np.concatenate([[0], np.cumsum(lengths)])):
        found, n = _of_some("".join(whole[part]), lengths[part])
        numbers.append(found)
        sizes.append(n)
    return Shingles(np.concatenate(numbers), np.cumsum(np.concatenate(sizes)))


def _parts(starts: np.ndarray) -> Iterator[slice]:
    begin = 0
    while begin < len(starts) - 1:
        end = max(begin + 1, int(np.searchsorted(starts, starts[begin] + _AT_ONCE, side="right")) - 1)
        yield slice(begin, end)
        begin = end


def _of_some(joined: str, lengths: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
    """Return the shingles of texts that were joined, and how many each has."""
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
    order = np.lexsort((found, text))
    found, text = found[order], text[order]
    new = np.ones(len(found), dtype=bool)
    new[1:] = (found[1:] != found[:-1]) | (text[1:] != text[:-1])
    return found[new], np.bincount(text[new], minlength=len(lengths))
