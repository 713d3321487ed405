"""The answer is the target: to the letter, or but for case, blanks and marks."""

from __future__ import annotations

import unicodedata

from .measure import Form, Measure, Reply


def figure(reply: Reply, form: Form) -> float:
    """Return 1 for an exact answer, blanks at its ends aside, else 0."""
    return float(reply.answer.strip() == reply.target.strip())


def normalised(reply: Reply, form: Form) -> float:
    """Return 1 where the answer is the target but for letter case, blanks and punctuation (Unicode class P), else 0."""
    return float(plain(reply.answer) == plain(reply.target))


def plain(text: str) -> str:
    """Return the text in NFKC, case folded, without punctuation, with single blanks."""
    folded = unicodedata.normalize("NFKC", text).casefold()
    kept = "".join(" " if unicodedata.category(letter).startswith("P") else letter for letter in folded)
    return " ".join(kept.split())


EXACT = Measure("exact", "share of answers that are the target to the letter", 0, 1, True, figure)
NORMALISED = Measure("normalised", "as exact, but for case, blanks and punctuation", 0, 1, True, normalised)
