"""A source to its files: a file, a folder, or a glob, in the order of their names."""

from __future__ import annotations

import glob
from pathlib import Path

from foldkit.formats import InputError

from .readers import READERS
from .readers.delimited import found_layout, read_delimited
from .readers.json_files import found_array, read_json
from .readers.prose import read_prose
from .settings import RowsSettings


def ending(path: Path) -> str:
    """Return the ending that says a file's kind, `.gz` aside."""
    name = path.name.lower().removesuffix(".gz")
    return Path(name).suffix


def find_files(source: str, folder: Path) -> list[Path]:
    """Return the files of a source, relative to `folder`.

    A folder gives those files in it whose kind is known. Raises InputError when nothing is found or a file is of an
    unknown kind.
    """
    path = folder / source
    if path.is_dir():
        files = sorted(file for file in path.rglob("*") if file.is_file() and ending(file) in READERS)
    elif glob.has_magic(source) and not path.exists():
        files = sorted(Path(name) for name in glob.glob(str(path), recursive=True) if Path(name).is_file())
    else:
        files = [path]
    known = ", ".join(READERS)
    if not files:
        raise InputError(path, "source", f"files ending in {known}", "none", "check the path")
    for file in files:
        if ending(file) not in READERS:
            raise InputError(file, "kind of file", known, ending(file) or file.name, "export the rows as one of these")
        if not file.exists():
            raise InputError(file, "source", "an existing file", None, "check the path")
    return files


def found_table(settings: RowsSettings, folder: Path) -> tuple[str, int]:
    """Return what parts the cells of a source's first file, "" for what usually does, and how many lines stand above.

    Of a file that is no table of text it is "" and 0.
    """
    first = find_files(settings.source, folder)[0]
    return found_layout(first, settings.encoding) if READERS[ending(first)] is read_delimited else ("", 0)


def is_prose(settings: RowsSettings, folder: Path) -> bool:
    """Tell whether a source's first file is prose, whose rows are what `unit` says."""
    return READERS[ending(find_files(settings.source, folder)[0])] is read_prose


def found_key(settings: RowsSettings, folder: Path) -> str:
    """Return under which key of a source's first file the rows stand, "" where they stand under none."""
    first = find_files(settings.source, folder)[0]
    return found_array(first, settings.encoding) if READERS[ending(first)] is read_json else ""
