"""JSON lines: one object a line, UTF-8."""

from __future__ import annotations

import json
import os
from collections.abc import Iterable, Iterator, Mapping
from pathlib import Path
from typing import Any

from .atomic import named, write_aside
from .errors import InputError
from .json_text import json_value


def read_jsonl(path: Path, *, tolerate_half_line: bool = False) -> list[dict[str, Any]]:
    """Return the objects of a file, blank lines passed over.

    `tolerate_half_line` drops a last line without a line end that is not whole, as a log being written may have.
    Raises InputError with the line number for a line that is no JSON object.
    """
    text = read_text(path)
    lines = text.split("\n")
    objects = []
    for number, line in enumerate(lines, 1):
        if not line.strip():
            continue
        try:
            value = json_value(line)
        except ValueError as error:
            if tolerate_half_line and number == len(lines):
                break
            raise InputError(
                f"{path}, line {number}", "line", "a JSON object", line, f"mend the line ({error})"
            ) from None
        if not isinstance(value, dict):
            raise InputError(f"{path}, line {number}", "line", "a JSON object", value, "write one object a line")
        objects.append(value)
    return objects


def readable_objects(lines: Iterable[bytes]) -> Iterator[dict[str, Any]]:
    """Yield the objects among lines, whatever else stands there passed over."""
    for line in lines:
        try:
            value = json_value(line.decode("utf-8-sig"))
        except ValueError:
            continue
        if isinstance(value, dict):
            yield value


def read_text(path: Path) -> str:
    """Return the text of a UTF-8 file; raises InputError when it is missing, a folder, or in another encoding."""
    try:
        return path.read_text(encoding="utf-8-sig")
    except FileNotFoundError:
        raise InputError(path, "file", "an existing file", None, "check the path") from None
    except UnicodeDecodeError as error:
        raise InputError(
            f"{path}, byte {error.start}", "encoding", "UTF-8", hex(error.object[error.start]), "save it as UTF-8"
        ) from None
    except OSError as error:
        raise InputError(path, "file", "a readable file", error.strerror, "check the path and its rights") from None


def write_jsonl(path: Path, objects: Iterable[Mapping[str, Any]]) -> None:
    """Write a whole file, aside and renamed."""
    write_aside(path, "".join(json.dumps(value, ensure_ascii=False) + "\n" for value in objects))


def append_jsonl(path: Path, value: Mapping[str, Any]) -> None:
    """Append one object to a file, on a line of its own: a disk that was full may have left half of one before it."""
    line = json.dumps(value, ensure_ascii=False).encode("utf-8") + b"\n"
    with named(path), path.open("ab+") as file:
        if file.tell():
            file.seek(-1, os.SEEK_END)
            line = line if file.read() == b"\n" else b"\n" + line
        file.write(line)
