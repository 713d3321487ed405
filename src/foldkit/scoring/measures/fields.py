"""Fields of the reply: named groups of a pattern, keys of a JSON object, or columns of a line; and its form as such."""

from __future__ import annotations

import csv
import json
import re
from collections.abc import Mapping

from foldkit.formats import InputError

from .measure import Form, Measure, Reply


def parse(text: str, form: Form) -> dict[str, str] | None:
    """Return the fields of a text that has the form as a whole, blanks at its ends aside; else None."""
    if form.pattern:
        match = re.fullmatch(form.pattern, text.strip())
        return {name: value or "" for name, value in match.groupdict().items()} if match else None
    if form.columns:
        lines = list(csv.reader([text.strip()]))
        cells = lines[0] if lines else []
        fits = len(cells) == len(form.columns)
        return dict(zip(form.columns, (cell.strip() for cell in cells), strict=True)) if fits else None
    return _parse_json(text, form.schema or {})


def _parse_json(text: str, schema: Mapping[str, object]) -> dict[str, str] | None:
    import jsonschema

    try:
        value = json.loads(text)
    except ValueError:
        return None
    if not isinstance(value, dict) or not jsonschema.Draft202012Validator(schema).is_valid(value):
        return None
    return {key: json.dumps(part, sort_keys=True, ensure_ascii=False) for key, part in value.items()}


def field_matches(reply: Reply, form: Form) -> dict[str, bool]:
    """Return for each field of the target whether the answer has the same value; all False when it has no such form.

    Raises InputError when the target itself has not the form.
    """
    target = parse(reply.target, form)
    if target is None:
        todo = "mend pattern, schema or columns in [score], or the row"
        raise InputError("[score]", "target", "targets of the form that is given", reply.target, todo)
    answer = parse(reply.answer, form) or {}
    return {name: answer.get(name) == value for name, value in target.items()}


def figure(reply: Reply, form: Form) -> float:
    """Return the share of fields that match."""
    matches = field_matches(reply, form)
    return sum(matches.values()) / max(1, len(matches))


def formed(reply: Reply, form: Form) -> float:
    """Return 1 for a well-formed answer, else 0."""
    return float(parse(reply.answer, form) is not None)


FIELDS = Measure("fields", "share of the target's fields that the answer has right", 0, 1, True, figure)
FORMAT = Measure("format", "share of answers that are well-formed", 0, 1, True, formed)
