"""Likeness of answer and target: by edits, by character n-grams, by word n-grams."""

from __future__ import annotations

import functools
from typing import Any

from .measure import Form, Measure, Reply


def figure(reply: Reply, form: Form) -> float:
    """Return 1 - edit distance / longer length (Levenshtein 1966)."""
    from rapidfuzz.distance import Levenshtein

    return float(Levenshtein.normalized_similarity(reply.target.strip(), reply.answer.strip()))


def characters(reply: Reply, form: Form) -> float:
    """Return chrF of one text (Popović 2015): F of character n-grams up to six, recall counted twice."""
    return min(1.0, float(_scorers()[0].sentence_score(reply.answer, [reply.target]).score) / 100)


def words(reply: Reply, form: Form) -> float:
    """Return BLEU of one text (Papineni et al. 2002), n-grams up to four, smoothed as Chen and Cherry 2014, 3."""
    return min(1.0, float(_scorers()[1].sentence_score(reply.answer, [reply.target]).score) / 100)


@functools.cache
def _scorers() -> tuple[Any, Any]:
    from sacrebleu.metrics.bleu import BLEU
    from sacrebleu.metrics.chrf import CHRF

    return CHRF(), BLEU(effective_order=True)


SIMILARITY = Measure("similarity", "1 - edit distance / longer length, by characters", 0, 1, True, figure)
CHARACTERS = Measure("characters", "F of character n-grams up to six (chrF)", 0, 1, True, characters)
WORDS = Measure("words", "precision of word n-grams up to four (BLEU of each row)", 0, 1, True, words)
