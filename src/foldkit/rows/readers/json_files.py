"""JSON: an array of objects, alone or under a path of keys; and JSON lines, one object a line."""

from __future__ import annotations

import json
from collections.abc import Iterator
from pathlib import Path
from typing import Any

from foldkit.formats import InputError, near_name

from ..settings import RowsSettings
from .contract import Bad, Raw, by_rows, open_text


@by_rows
def read_json(path: Path, settings: RowsSettings) -> Iterator[Raw | Bad]:
    """Yield the objects of the array under `settings.key`, whose parts are joined by dots."""
    with open_text(path, settings.encoding) as file:
        try:
            value = json.load(file)
        except UnicodeDecodeError:
            raise
        except (ValueError, RecursionError) as error:
            raise InputError(path, "file", "JSON", str(error), "mend the place it names") from None
    for part in settings.key.split(".") if settings.key else ():
        if not isinstance(value, dict) or part not in value:
            known = list(value) if isinstance(value, dict) else []
            raise InputError(path, f"key {part!r} of [rows] key", "a key of the file", part, near_name(part, known))
        value = value[part]
    if not isinstance(value, list):
        lists = [key for key, item in value.items() if isinstance(item, list)] if isinstance(value, dict) else []
        todo = f'set key = "{lists[0]}" in [rows]' if lists else "name the array with key in [rows]"
        raise InputError(path, "file", "an array of objects", type(value).__name__, todo)
    for number, item in enumerate(value, 1):
        yield _row(f"{path}, row {number}", item)


@by_rows
def read_json_lines(path: Path, settings: RowsSettings) -> Iterator[Raw | Bad]:
    """Yield the objects of the lines, blank lines passed over."""
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
                yield _row(place, item)


def _row(place: str, item: Any) -> Raw | Bad:
    if not isinstance(item, dict):
        return Bad(place, "row", "a JSON object", item, "use objects")
    if _half_a_character(item):
        return Bad(place, "row", "whole characters", "half of a surrogate pair", "export the text again")
    return Raw(place, item)


def _half_a_character(item: dict[str, Any]) -> bool:
    try:
        json.dumps(item, ensure_ascii=False).encode("utf-8")
    except UnicodeEncodeError:
        return True
    return False
