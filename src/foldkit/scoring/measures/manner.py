"""How an answer goes, whatever it says: its length, whether it ends, repeats itself, refuses."""

from __future__ import annotations

import re

from .measure import Form, Measure, Reply

_REPEATS = re.compile(r"(.{4,80}?)\1{2,}", re.DOTALL)
_REFUSES = re.compile(
    r"^\W*(i(?:'m| am) (?:sorry|unable|not able)|sorry|i (?:can(?:not|'t)|won't)|as an? (?:ai|language model))\b", re.I
)


def length(reply: Reply, form: Form) -> float:
    """Return the shorter of answer and target over the longer, in characters; 1 for two empty ones."""
    a, b = len(reply.answer.strip()), len(reply.target.strip())
    return min(a, b) / max(a, b) if max(a, b) else 1.0


def ended(reply: Reply, form: Form) -> float:
    """Return 1 where the answer ended by itself, 0 where it was cut."""
    return float(reply.ended)


def repeats(reply: Reply, form: Form) -> float:
    """Return 1 where a piece of 4 to 80 characters stands three times in a row, as it does not in the target."""
    return float(any(3 * found[1] not in reply.target for found in _REPEATS.finditer(reply.answer)))


def refuses(reply: Reply, form: Form) -> float:
    """Return 1 where the answer begins as a refusal does (English wordings), and the target does not."""
    answer, target = (bool(_REFUSES.search(text.replace("’", "'"))) for text in (reply.answer, reply.target))
    return float(answer and not target)


LENGTH = Measure("length", "shorter of answer and target over the longer, by characters", 0, 1, True, length)
ENDED = Measure("ended", "share of answers that ended by themselves", 0, 1, True, ended)
REPEATS = Measure("repeats", "share of answers that repeat a piece three times in a row", 0, 1, False, repeats)
REFUSES = Measure("refuses", "share of answers that begin with a refusal", 0, 1, False, refuses)
