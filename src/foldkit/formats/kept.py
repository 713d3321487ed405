"""What was found at a cost and is not to be found twice: JSON lines, each sealed."""

from __future__ import annotations

from pathlib import Path
from typing import Any

from .fingerprint import seal, unsealed
from .jsonl import append_jsonl, readable_objects


def keep(path: Path, value: Any) -> None:
    """Append a JSON value to a file of what is kept."""
    append_jsonl(path, seal({"kept": value}))


def all_kept(path: Path) -> list[Any]:
    """Return the values that a file keeps, none where there is none; a line that is not as written is passed over."""
    if not path.exists():
        return []
    with path.open("rb") as file:
        return [found["kept"] for line in readable_objects(file) if (found := unsealed(line))]
