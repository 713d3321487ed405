"""Near copies among texts: MinHash (Broder 1997) finds candidates, the exact likeness of their shingles decides.

Likeness is the Jaccard index of the sets of five-character shingles, letter case and runs of blanks aside.
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass

_SHINGLE, _HASHES, _LEEWAY = 5, 128, 0.2


@dataclass(frozen=True)
class NearPair:
    """Two rows, the earlier first, and how alike their texts are (0 to 1)."""

    first: int
    second: int
    likeness: float


def plain(text: str) -> str:
    """Return the text with letter case and runs of blanks taken out."""
    return " ".join(text.casefold().split())


def likeness(first: str, second: str) -> float:
    """Return the Jaccard index of the shingles of two texts; 1 for two empty ones."""
    a, b = _shingles(first), _shingles(second)
    return len(a & b) / len(a | b)


def near_pairs(texts: Mapping[int, str], threshold: float) -> list[NearPair]:
    """Return the pairs of rows whose likeness is at least `threshold`, in order of the rows."""
    from datasketch import MinHash, MinHashLSH

    rows = sorted(texts)
    shingles = {row: _shingles(texts[row]) for row in rows}
    # Candidates are looked for well below the threshold, so that hardly any pair above it is missed.
    index = MinHashLSH(threshold=max(0.1, threshold - _LEEWAY), num_perm=_HASHES)
    hashes = MinHash.bulk([[part.encode() for part in shingles[row]] for row in rows], num_perm=_HASHES, seed=1)
    found = []
    for row, sketch in zip(rows, hashes, strict=True):
        for other in index.query(sketch):
            alike = len(shingles[row] & shingles[other]) / len(shingles[row] | shingles[other])
            if alike >= threshold:
                found.append(NearPair(other, row, alike))
        index.insert(row, sketch)
    return sorted(found, key=lambda pair: (pair.first, pair.second))


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
    first = {row: row for row in texts}

    def root(row: int) -> int:
        while first[row] != row:
            first[row] = first[first[row]]
            row = first[row]
        return row

    for pair in near_pairs(texts, threshold):
        a, b = sorted((root(pair.first), root(pair.second)))
        first[b] = a
    return {row: root(row) for row in texts}


def _shingles(text: str) -> set[str]:
    joined = plain(text)
    return {joined[start : start + _SHINGLE] for start in range(max(1, len(joined) - _SHINGLE + 1))}
