"""What Git leaves in the place of a large file that it did not fetch."""

from __future__ import annotations

from pathlib import Path

from .errors import InputError

_BEGIN = b"version https://git-lfs"


def refuse_pointer(path: Path) -> None:
    """Raise InputError where a file is but a pointer to what it should be; one that cannot be read is let pass."""
    try:
        with path.open("rb") as file:
            begin = file.read(len(_BEGIN))
    except OSError:
        return
    if begin == _BEGIN:
        todo = "fetch the file: git lfs pull in its folder"
        raise InputError(path, "file", "the file itself", "a pointer to it, as Git leaves it", todo)
