"""TOML files, read with an error that names file and line."""

from __future__ import annotations

import tomllib
from pathlib import Path
from typing import Any

from .errors import InputError
from .jsonl import read_text


def read_toml(path: Path) -> dict[str, Any]:
    """Return the mapping of a TOML file; raises InputError when it is missing or malformed."""
    try:
        return tomllib.loads(read_text(path))
    except tomllib.TOMLDecodeError as error:
        raise InputError(path, "file", "TOML", str(error), "mend the line it names") from None
