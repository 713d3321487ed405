"""Fields of the reply: named groups of a pattern, keys of a JSON object, or columns of a line; and its form as such."""

from __future__ import annotations

import csv
import json
import re
from collections.abc import Mapping

from foldkit.formats import InputError, json_value

from .measure import Form, Measure, Reply


def parse(text: str, form: Form) -> dict[str, str] | None:
    """Return the fields of a text that has the form as a whole, blanks at its ends aside; else None."""
    if form.pattern:
        match = re.fullmatch(form.pattern, text.strip())
        return {name: value or "" for name, value in match.groupdict().items()} if match else None
    if form.columns:
        cells = _cells(text.strip())
        fits = len(cells) == len(form.columns)
        return dict(zip(form.columns, (cell.strip() for cell in cells), strict=True)) if fits else None
    return _parse_json(text, form.schema or {})


def _cells(line: str) -> list[str]:
    """Return the cells of a line; none where it is several, or what stands in quotes does not end."""
    try:
        return next(csv.reader([line], strict=True), [])
    except csv.Error:
        return []


def _parse_json(text: str, schema: Mapping[str, object]) -> dict[str, str] | None:
    """Return the keys of an object that fits; none where its text is no JSON, or too deep to be read."""
    import jsonschema
    import referencing

    # An empty registry: what a schema refers to is never fetched.
    validator = jsonschema.Draft202012Validator(schema, registry=referencing.Registry())
    try:
        value = json_value(text, exact=True)
        if not isinstance(value, dict) or not validator.is_valid(value):
            return None
        return {key: json.dumps(part, sort_keys=True, ensure_ascii=False) for key, part in value.items()}
    except (ValueError, RecursionError):
        return None
    except referencing.exceptions.Unresolvable as error:
        raise InputError("[score]", "schema", "references to its own parts", error.ref, "mend its file") from None


def check_schema(schema: Mapping[str, object], where: object) -> None:
    """Raise InputError unless a mapping is a JSON Schema (draft 2020-12)."""
    import jsonschema

    try:
        jsonschema.Draft202012Validator.check_schema(schema, jsonschema.FormatChecker(["regex"]))
    except jsonschema.SchemaError as error:
        place = f"{where}, {error.json_path}"
        raise InputError(place, "schema", "a JSON Schema (draft 2020-12)", error.instance, error.message) from None


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
