"""Replies that are lists, of labels or of what was found: the items that answer and target share."""

from __future__ import annotations

import json
import re

from foldkit.formats import json_value

from .exact import plain
from .measure import Form, Measure, Reply

# What parts the items of a line, the first that stands in it; lines part them before all.
_MARKS = ("\n", ";", "|", ",")
_BULLET = re.compile(r"\s*(?:[-*•]|\d+[.)])\s+")


def figure(reply: Reply, form: Form) -> float:
    """Return F1 of the row's items (Godbole and Sarawagi 2004), in any order, each once; 1 for two empty lists.

    They are compared without case, blanks and punctuation. A list is one of JSON, or a text whose items are parted by
    lines, or by what the target has of `;`, `|` and `,`.
    """
    target, answer = _listed(reply.target.strip()), _listed(reply.answer.strip())
    marks = (mark for text in (target, answer) if isinstance(text, str) for mark in _MARKS if mark in text)
    mark = next(marks, _MARKS[0])
    wanted, found = _items(target, mark), _items(answer, mark)
    return 2 * len(wanted & found) / (len(wanted) + len(found)) if wanted or found else 1.0


def _listed(text: str) -> list[str] | str:
    """Return the parts of a list of JSON, any other text as it is."""
    try:
        value = json_value(text) if text.startswith("[") else None
        if isinstance(value, list):
            return [part if isinstance(part, str) else json.dumps(part, sort_keys=True) for part in value]
    except (ValueError, RecursionError):
        return text
    return text


def _items(given: list[str] | str, mark: str) -> set[str]:
    """Return the items of a list, or of a text with this mark between them, as they are compared."""
    parts = given.split(mark) if isinstance(given, str) else given
    return {own for part in parts if (own := plain(_BULLET.sub("", part, count=1)))}


ITEMS = Measure("items", "items of a list that are right: F1 of each row, in any order", 0, 1, True, figure)
