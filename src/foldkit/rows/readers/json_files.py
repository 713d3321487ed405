"""JSON: an array of objects, alone or under a path of keys, or one object; and JSON lines, one object a line."""

from __future__ import annotations

import contextlib
import json
import zlib
from collections.abc import Iterator
from pathlib import Path
from typing import Any

from foldkit.formats import InputError, are_messages, near_name
from foldkit.formats.json_text import escapes_halves, has_half

from ..settings import RowsSettings
from .contract import Bad, Raw, by_rows, open_text


@by_rows
def read_json(path: Path, settings: RowsSettings) -> Iterator[Raw | Bad]:
    """Yield the objects of the array under `settings.key`, its parts joined by dots; or of lines where it has them.

    An object that has texts, or the messages of a conversation, and no other array of objects is a row by itself.
    """
    with open_text(path, settings.encoding) as file:
        try:
            text = file.read()
            value = json.loads(text)
        except UnicodeDecodeError:
            raise
        except (ValueError, RecursionError) as error:
            if not _has_lines(path, settings.encoding):
                raise InputError(path, "file", "JSON", str(error), "mend the place it names") from None
            yield from _lines(path, settings)
            return
    for part in settings.key.split(".") if settings.key else ():
        if not isinstance(value, dict) or part not in value:
            known = list(value) if isinstance(value, dict) else []
            raise InputError(path, f"key {part!r} of [rows] key", "a key of the file", part, near_name(part, known))
        value = value[part]
    if _is_row(value):
        value = [value]
    if not isinstance(value, list):
        arrays = array_keys(value)
        todo = f'set key = "{arrays[0]}" in [rows]' if arrays else "name the array with key in [rows]"
        raise InputError(path, "file", "an array of objects", type(value).__name__, todo)
    escapes = escapes_halves(text)
    for number, item in enumerate(value, 1):
        yield _row(f"{path}, row {number}", item, escapes=escapes)


@by_rows
def read_json_lines(path: Path, settings: RowsSettings) -> Iterator[Raw | Bad]:
    """Yield the objects of the lines, blank lines passed over."""
    yield from _lines(path, settings)


def found_arrays(path: Path, encoding: str) -> list[str]:
    """Return the keys under which arrays of objects of a file stand, the longest first; none where it is one itself."""
    # What is wrong with a file is said when its rows are read.
    with (
        contextlib.suppress(ValueError, RecursionError, EOFError, OSError, zlib.error),
        open_text(path, encoding) as file,
    ):
        return array_keys(json.load(file))
    return []


def _is_row(value: Any) -> bool:
    cells = value.values() if isinstance(value, dict) else ()
    return any(isinstance(cell, str) or are_messages(cell) for cell in cells) and not array_keys(value)


def array_keys(value: Any) -> list[str]:
    """Return the keys under which arrays of objects stand, those of the longest first; parts are joined by dots.

    The messages of a conversation are none.
    """
    found = sorted(_arrays(value, ()), key=lambda one: -one[0])
    return [".".join(keys) for _, keys in found]


def _arrays(value: Any, keys: tuple[str, ...]) -> Iterator[tuple[int, tuple[str, ...]]]:
    objects = isinstance(value, list) and all(isinstance(item, dict) for item in value)
    if objects and keys and not are_messages(value):
        yield len(value), keys
    for key, item in value.items() if isinstance(value, dict) else ():
        if "." not in key:
            yield from _arrays(item, (*keys, key))


def _has_lines(path: Path, encoding: str) -> bool:
    """Whether the first line of a file is an object by itself."""
    with open_text(path, encoding) as file:
        try:
            return isinstance(json.loads(file.readline()), dict)
        except (ValueError, RecursionError):
            return False


def _lines(path: Path, settings: RowsSettings) -> Iterator[Raw | Bad]:
    with open_text(path, settings.encoding) as file:
        for number, line in enumerate(file, 1):
            if not line.strip():
                continue
            place = f"{path}, line {number}"
            try:
                item = json.loads(line)
            except (ValueError, RecursionError) as error:
                yield Bad(place, "line", "a JSON object", line.rstrip("\r\n"), f"mend the line ({error})")
            else:
                yield _row(place, item, escapes=escapes_halves(line))


def _row(place: str, item: Any, *, escapes: bool) -> Raw | Bad:
    """Return the row of an object; only where its text `escapes` halves of characters may one stand alone."""
    if not isinstance(item, dict):
        return Bad(place, "row", "a JSON object", item, "use objects, one a line; an array of them is a .json file")
    if escapes and has_half(item):
        return Bad(place, "row", "whole characters", "half of a surrogate pair", "export the text again")
    return Raw(place, item)
