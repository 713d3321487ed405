"""What was found at a cost and is not to be found twice: JSON lines, each with the fingerprint of what it holds."""

from __future__ import annotations

from pathlib import Path
from typing import Any

from .fingerprint import fingerprint_value
from .jsonl import append_jsonl, readable_objects, write_jsonl


def keep(path: Path, value: Any) -> None:
    """Append a JSON value to a file of what is kept."""
    append_jsonl(path, {"kept": value, "fingerprint": fingerprint_value(value)})


def all_kept(path: Path) -> list[Any]:
    """Return the values that a file keeps, none where there is no file.

    A line that is not as it was written, half of one at the end among them, is dropped from the file too.
    """
    if not path.exists():
        return []
    with path.open("rb") as file:
        whole = [line for line in readable_objects(file) if _is_whole(line)]
    write_jsonl(path, whole)
    return [line["kept"] for line in whole]


def _is_whole(line: dict[str, Any]) -> bool:
    return "kept" in line and line.get("fingerprint") == fingerprint_value(line["kept"])
