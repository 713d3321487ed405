"""Likeness of answer and target, character by character."""

from __future__ import annotations

from .measure import Measure, Reply


def figure(reply: Reply, pattern: str) -> float:
    """Return 1 - edit distance / longer length (Levenshtein 1966)."""
    from rapidfuzz.distance import Levenshtein

    return float(Levenshtein.normalized_similarity(reply.target.strip(), reply.answer.strip()))


SIMILARITY = Measure("similarity", "1 - edit distance / longer length, by characters", 0, 1, True, figure)
