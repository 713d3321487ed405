"""The answer is the target: to the letter, or but for case, blanks and marks."""

from __future__ import annotations

import re
import unicodedata

from .measure import Form, Measure, Reply

_SIGN = re.compile(r"(?<![\w)])-(?=\.?\d)")


def figure(reply: Reply, form: Form) -> float:
    """Return 1 for an exact answer, blanks at its ends aside, else 0."""
    return float(reply.answer.strip() == reply.target.strip())


def normalised(reply: Reply, form: Form) -> float:
    """Return 1 where the answer is the target but for letter case, blanks and punctuation (Unicode class P), else 0."""
    return float(plain(reply.answer) == plain(reply.target))


def plain(text: str) -> str:
    """Return the text in NFKC, case folded, without punctuation, with single blanks.

    The sign of a number stays, and so does a text of punctuation alone: -1 and 1, or ? and !, are not the same.
    """
    folded = _SIGN.sub("−", unicodedata.normalize("NFKC", text).casefold())
    kept = "".join(" " if unicodedata.category(letter).startswith("P") else letter for letter in folded)
    return " ".join(kept.split()) or " ".join(folded.split())


EXACT = Measure("exact", "share of answers that are the target to the letter", 0, 1, True, figure)
NORMALISED = Measure("normalised", "as exact, but for case, blanks and punctuation", 0, 1, True, normalised)
