"""One JSON object in a file."""

from __future__ import annotations

import json
from pathlib import Path
from typing import Any

from .errors import InputError
from .jsonl import read_text


def read_json(path: Path, todo: str) -> dict[str, Any]:
    """Return the object of a JSON file; raises InputError, which says what to do, where it is missing or none."""
    try:
        value = json.loads(read_text(path))
    except (ValueError, RecursionError) as error:
        raise InputError(path, "file", "a JSON object", str(error), todo) from None
    if not isinstance(value, dict):
        raise InputError(path, "file", "a JSON object", type(value).__name__, todo)
    return value
