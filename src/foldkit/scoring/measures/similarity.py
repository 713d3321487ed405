"""Likeness of answer and target: by edits, by character n-grams, by word n-grams."""

from __future__ import annotations

import functools
import re
from typing import Any

from .measure import Form, Measure, Reply

# Letters and marks that stand without blanks: Thai, Lao, Burmese, Khmer, kana, Han, their full stops and wide forms.
_UNPARTED = re.compile(
    "([\u0e00-\u0eff\u1000-\u109f\u1780-\u17ff\u3001-\u30ff\u3400-\u4dbf\u4e00-\u9fff\uf900-\ufaff\uff01-\uff65"
    "\U00020000-\U0003ffff])"
)


def figure(reply: Reply, form: Form) -> float:
    """Return 1 - edit distance / longer length (Levenshtein 1966)."""
    from rapidfuzz.distance import Levenshtein

    return float(Levenshtein.normalized_similarity(reply.target.strip(), reply.answer.strip()))


def characters(reply: Reply, form: Form) -> float:
    """Return chrF of one text (Popović 2015): F of character n-grams up to six, recall counted twice."""
    return min(1.0, float(_scorers()[0].sentence_score(reply.answer, [reply.target]).score) / 100)


def words(reply: Reply, form: Form) -> float:
    """Return BLEU of one text (Papineni et al. 2002), n-grams up to four, smoothed as Chen and Cherry 2014, 3.

    A letter of a script that has no blanks between words counts as a word.
    """
    answer, target = (_UNPARTED.sub(r" \1 ", text) for text in (reply.answer, reply.target))
    return min(1.0, float(_scorers()[1].sentence_score(answer, [target]).score) / 100)


@functools.cache
def _scorers() -> tuple[Any, Any]:
    from sacrebleu.metrics.bleu import BLEU
    from sacrebleu.metrics.chrf import CHRF

    return CHRF(), BLEU(effective_order=True)


SIMILARITY = Measure("similarity", "1 - edit distance / longer length, by characters", 0, 1, True, figure)
CHARACTERS = Measure("characters", "F of character n-grams up to six (chrF)", 0, 1, True, characters)
WORDS = Measure("words", "precision of word n-grams up to four (BLEU of each row)", 0, 1, True, words)
