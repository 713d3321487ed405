"""Near copies against every pair compared as Python sets."""

from __future__ import annotations

import functools
import random

import numpy as np
import pytest

from foldkit.rows.near import NO_ROW, likeness, near_clusters, near_texts, plain
from foldkit.rows.shingles import few_at_once, shingles_of

WORDS = [f"{first}{second}" for first in ("sea", "wind", "glass", "keeper", "light") for second in "abcdefgh"]


def texts_with_copies(n: int) -> dict[int, str]:
    """So many texts of 22 words, some with letters that no other has, and as many copies of which letters are changed.

    And one that is another in capitals and blanks, one shorter than a shingle, and one longer than all else together.
    """
    rng = random.Random(8)
    texts = {row: " ".join(rng.choices([*WORDS, "Höhe", "風"], k=22)) for row in range(1, n + 1)}
    for row in range(n + 1, 2 * n + 1):
        letters = list(texts[row - n])
        for _ in range(rng.randint(1, 14)):
            letters[rng.randrange(len(letters))] = "x"
        texts[row] = "".join(letters)
    more = ("  ".join(texts[3].upper().split()), "no", " ".join(f"{n * 7919:x}" for n in range(80_000)))
    return texts | dict(enumerate(more, 2 * n + 1))


@functools.cache
def every_likeness(n: int) -> dict[tuple[int, int], float]:
    """The likeness of all pairs of the texts and their copies."""
    texts, last = texts_with_copies(n), 2 * n + 1
    return {(a, b): likeness(texts[a], texts[b]) for a in range(1, last) for b in range(a + 1, last)}


def test_numbers_of_shingles_stand_for_strings() -> None:
    """As many different ones of each text and of all as pieces of five characters; a shorter text is one."""
    texts = [plain(text) for text in texts_with_copies(150).values()]
    strings = [{text[start : start + 5] for start in range(max(1, len(text) - 4))} for text in texts]
    found = shingles_of(texts)
    assert found.sizes.tolist() == list(map(len, strings))
    assert len(np.unique(found.numbers)) == len(set().union(*strings))
    assert len(list(few_at_once(texts))) > 1


@pytest.mark.parametrize("threshold", [0.5, 0.75, 0.85, 1.0])
def test_near_texts_are_those_of_the_exact_likeness(threshold: float) -> None:
    """None that is not near, the same likeness; of those that are near one in 100 may be missed."""
    texts = texts_with_copies(150)
    near = near_texts(texts, threshold)
    assert near.rows.tolist() == list(texts)
    assert near.text.tolist() == [*range(300), 2, 300, 301]
    pairs = zip(near.first.tolist(), near.second.tolist(), near.likeness.tolist(), strict=True)
    found = {(int(near.rows[a]), int(near.rows[b])): alike for a, b, alike in pairs}
    expected = {pair: alike for pair, alike in every_likeness(150).items() if alike >= threshold}
    assert len(found) == len(near.first), "each pair once"
    assert found.items() <= expected.items()
    assert len(found) >= 0.99 * len(expected)
    assert len(expected) >= (15 if threshold < 1 else 0)


def test_first_near_copies_and_clusters_follow_from_the_pairs() -> None:
    """By the way from row to row; copies with the same text are in one cluster, and no near copies of each other."""
    texts = texts_with_copies(60)
    near = near_texts(texts, 0.75)
    usual = list(texts)[:-2]
    whole = {a: {b for b in usual if a != b and likeness(texts[a], texts[b]) >= 0.75} for a in usual}
    whole |= {row: set() for row in list(texts)[-2:]}
    for some in (set(texts), {*range(1, 125, 3)}):
        first = near.first_near(np.array([row in some for row in texts])).tolist()
        same = {3, 121}
        assert first == [min(whole[r] & some - (same if r in same else set()), default=NO_ROW) for r in texts]
    clusters = near_clusters(texts, 0.75)
    assert clusters[121] == clusters[3] == 3
    for row, copies in whole.items():
        assert clusters[row] == min({row, *(clusters[copy] for copy in copies)})
    assert near_clusters({}, 0.75) == {}
    assert likeness("A  b", "a b") == 1
    assert likeness("abcdefgh", "zyxwvuts") == 0
