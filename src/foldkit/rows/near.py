"""Near copies among texts: MinHash finds candidates, the exact likeness of their shingles decides.

Likeness is the Jaccard index of the sets of five-character shingles, letter case and runs of blanks aside.
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass

import numpy as np

from .candidates import candidates
from .shingles import SHINGLE, shingles_of

# Pairs that are compared at once.
_AT_ONCE = 50_000
# No row has a number so high.
NO_ROW = np.iinfo(np.int64).max


@dataclass(frozen=True)
class NearTexts:
    """The different texts of rows, letter case and runs of blanks aside, and which of them are near copies of others.

    `text` is the text of each of `rows`, which are in order, both int64 (n_rows,); texts are numbered by their first
    rows. `first` and `second` are pairs of texts that are near, int64 (n_pairs,), in order, and `likeness` from 0 to 1.
    """

    rows: np.ndarray
    text: np.ndarray
    first: np.ndarray
    second: np.ndarray
    likeness: np.ndarray

    def first_near(self, among: np.ndarray) -> np.ndarray:
        """Return for each row the first near copy of it `among` some, bool (n_rows,), or NO_ROW; int64 (n_rows,).

        Rows of one text are no near copies of each other.
        """
        own = np.full(len(self.rows), NO_ROW)
        np.minimum.at(own, self.text, np.where(among, self.rows, NO_ROW))
        found = np.full(len(self.rows), NO_ROW)
        np.minimum.at(found, self.second, own[self.first])
        np.minimum.at(found, self.first, own[self.second])
        return np.asarray(found[self.text])


def plain(text: str) -> str:
    """Return the text with letter case and runs of blanks taken out."""
    return " ".join(text.casefold().split())


def likeness(first: str, second: str) -> float:
    """Return the Jaccard index of the shingles of two texts; 1 for two empty ones."""
    a, b = _shingles(first), _shingles(second)
    return len(a & b) / len(a | b)


def near_texts(texts: Mapping[int, str], threshold: float) -> NearTexts:
    """Return the texts of rows, and the pairs of them whose likeness is at least `threshold`.

    A pair at the threshold is missed with a chance of 3 in 1,000, one above it more seldom.
    """
    rows = sorted(texts)
    numbered: dict[str, int] = {}
    text = [numbered.setdefault(plain(texts[row]), len(numbered)) for row in rows]
    different = list(numbered)
    first, second = candidates(different, threshold)
    alike = _likeness_of(different, first, second)
    near = alike >= threshold
    return NearTexts(np.array(rows, np.int64), np.array(text, np.int64), first[near], second[near], alike[near])


def _likeness_of(texts: Sequence[str], first: np.ndarray, second: np.ndarray) -> np.ndarray:
    """Return the likeness of pairs of texts, float64 (n,)."""
    from scipy.sparse import csr_array

    compared = np.union1d(first, second)
    first, second = np.searchsorted(compared, first), np.searchsorted(compared, second)
    shingles = shingles_of([texts[number] for number in compared.tolist()])
    sizes, likeness = shingles.sizes, np.empty(len(first))
    ones, shape = np.ones(len(shingles.numbers), np.int8), (len(sizes), np.iinfo(np.int64).max)
    sets = csr_array((ones, shingles.numbers, shingles.starts), shape=shape)
    for start in range(0, len(first), _AT_ONCE):
        part = slice(start, start + _AT_ONCE)
        both = sets[first[part]].multiply(sets[second[part]]).sum(axis=1, dtype=np.int64)
        likeness[part] = both / (sizes[first[part]] + sizes[second[part]] - both)
    return likeness


def nearest(text: str, others: Sequence[str], most: int) -> list[tuple[int, float]]:
    """Return the places of the `most` likest of the others with their likeness, the likest first.

    Ten times as many, and a hundred at least, are taken by the edits between them (Levenshtein), and the exact likeness
    of those decides.
    """
    from rapidfuzz import fuzz, process

    own = plain(text)
    close = process.extract(own, others, scorer=fuzz.ratio, limit=max(100, 10 * most))
    alike = sorted(((likeness(own, found), place) for found, _, place in close), key=lambda pair: (-pair[0], pair[1]))
    return [(place, value) for value, place in alike[:most]]


def near_clusters(texts: Mapping[int, str], threshold: float) -> dict[int, int]:
    """Return for each row the first row of its cluster: rows that a chain of near pairs joins."""
    from scipy.sparse import coo_array
    from scipy.sparse.csgraph import connected_components

    near = near_texts(texts, threshold)
    n = len(near.rows)
    joined = coo_array((np.ones(len(near.first), bool), (near.first, near.second)), shape=(n, n))
    cluster = connected_components(joined, directed=False)[1][near.text]
    first = np.full(n, NO_ROW)
    np.minimum.at(first, cluster, near.rows)
    return dict(zip(near.rows.tolist(), first[cluster].tolist(), strict=True))


def _shingles(text: str) -> set[str]:
    joined = plain(text)
    return {joined[start : start + SHINGLE] for start in range(max(1, len(joined) - SHINGLE + 1))}
