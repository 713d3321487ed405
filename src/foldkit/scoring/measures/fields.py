"""Fields of the reply, cut out by the named groups of a pattern; and whether the reply has that form at all."""

from __future__ import annotations

import re

from foldkit.formats import InputError

from .measure import Measure, Reply


def parse(text: str, pattern: str) -> dict[str, str] | None:
    """Return the named groups when the whole text matches, blanks at its ends aside; else None."""
    match = re.fullmatch(pattern, text.strip())
    return match.groupdict() if match else None


def field_matches(reply: Reply, pattern: str) -> dict[str, bool]:
    """Return for each field of the target whether the answer has the same value; all False when it has no such form.

    Raises InputError when the target itself does not match the pattern.
    """
    target = parse(reply.target, pattern)
    if target is None:
        todo = "mend [score] pattern or the row"
        raise InputError("[score] pattern", "target", "targets of the pattern's form", reply.target, todo)
    answer = parse(reply.answer, pattern) or {}
    return {name: answer.get(name) == value for name, value in target.items()}


def figure(reply: Reply, pattern: str) -> float:
    """Return the share of fields that match."""
    matches = field_matches(reply, pattern)
    return sum(matches.values()) / len(matches)


def form(reply: Reply, pattern: str) -> float:
    """Return 1 for a well-formed answer, else 0."""
    return float(parse(reply.answer, pattern) is not None)


FIELDS = Measure("fields", "share of the target's fields that the answer has right", 0, 1, True, figure)
FORMAT = Measure("format", "share of answers that are well-formed", 0, 1, True, form)
