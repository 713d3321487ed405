"""The answer is the target to the letter, blanks at its ends aside."""

from __future__ import annotations

from .measure import Measure, Reply


def figure(reply: Reply, pattern: str) -> float:
    """Return 1 for an exact answer, else 0."""
    return float(reply.answer.strip() == reply.target.strip())


EXACT = Measure("exact", "share of answers that are the target to the letter", 0, 1, True, figure)
