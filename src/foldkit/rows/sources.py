"""A source to its files: a file, a folder, or a glob, in the order of their names."""

from __future__ import annotations

import glob
from collections import Counter
from collections.abc import Iterable, Iterator, Mapping, Sequence
from pathlib import Path

from foldkit.formats import InputError, listed
from foldkit.formats.paths import path_from
from foldkit.formats.pointer import refuse_pointer

from .readers import READERS, Reader
from .readers.prose import read_prose
from .settings import RowsSettings

# Folders beside a sheet that hold what was made of its rows, with what is in no other.
_WRITTEN = {
    "built": "manifest.json",
    "runs": "*/sheet.json",
    "before": "scorecard.json",
    "answers": f"{'[0-9a-f]' * 16}.jsonl",
}
_OTHERS = "export the rows as one of these, or name endings of plain text with as_text in [rows]"


def ending(path: Path) -> str:
    """Return the ending that says a file's kind, `.gz` aside."""
    name = path.name.lower().removesuffix(".gz")
    return Path(name).suffix


def reader_of(path: Path, as_text: Sequence[str] = ()) -> Reader | None:
    """Return what reads a file by its ending, None for one of an unknown kind."""
    return read_prose if ending(path) in as_text else READERS.get(ending(path))


def find_files(settings: RowsSettings, folder: Path) -> list[Path]:
    """Return the files of a source, relative to `folder`.

    A folder gives those files in it whose kind is known, or only those that are read `as_text` where such endings are
    named; hidden ones aside. Raises InputError when nothing is found or a file is of an unknown kind.
    """
    path, known = path_from(folder, settings.source), settings.as_text or tuple(READERS)
    every = files_of(settings.source, folder)
    files = [file for file in every if ending(file) in known] if path.is_dir() else every
    if not files:
        found = endings_said(Counter(map(ending, every))) or "none"
        raise InputError(path, "source", f"files ending in {', '.join(known)}", found, _OTHERS)
    for file in files:
        if reader_of(file, settings.as_text) is None:
            raise InputError(file, "kind of file", ", ".join(READERS), ending(file) or file.name, _OTHERS)
        if not file.exists():
            raise InputError(file, "source", "an existing file", None, "check the path")
        if file.is_file():  # else what is read of it would be gone
            refuse_pointer(file)
    return files


def files_of(source: str, folder: Path) -> list[Path]:
    """Return the files that a source names, whatever their kind, in the order of their paths.

    Of a folder or a glob hidden ones are left out, and those that were written beside the sheet.
    """
    path = path_from(folder, source)
    if path.is_dir():
        found: Iterable[Path] = (
            file for file in path.rglob("*") if not any(part.startswith(".") for part in file.relative_to(path).parts)
        )
    elif glob.has_magic(source) and not path.exists():
        found = map(Path, glob.glob(str(path), recursive=True))
    else:
        return [path]
    written = {own.resolve() for own in _written(folder)}
    return sorted(file for file in found if file.is_file() and (not written or written.isdisjoint(_above(file))))


def _above(file: Path) -> list[Path]:
    resolved = file.resolve()
    return [resolved, *resolved.parents]


def _written(folder: Path) -> Iterator[Path]:
    """Yield what was written into a sheet's folder, which is no source: told by a file that only such a folder has."""
    for name, sign in _WRITTEN.items():
        if next((folder / name).glob(sign), None):
            yield folder / name
    if (folder / "decisions.jsonl").exists():
        yield folder / "decisions.jsonl"
    for signed in folder.glob("*.signed.json"):
        yield from (signed, signed.with_name(signed.name.removesuffix(".signed.json")))


def endings_said(endings: Mapping[str, int]) -> str:
    """Say how many files have each ending."""
    return listed([f"{n} × {name or 'no ending'}" for name, n in endings.items()])
