"""A source to its files: a file, a folder, or a glob, in the order of their names."""

from __future__ import annotations

import glob
import re
import zlib
from collections import Counter
from collections.abc import Iterable, Iterator, Mapping, Sequence
from pathlib import Path

from foldkit.formats import InputError, listed

from .marks import usual_marks
from .readers import READERS, Reader
from .readers.contract import open_text
from .readers.delimited import found_layout, read_delimited
from .readers.json_files import found_arrays, read_json
from .readers.prose import PARAGRAPH, read_prose
from .readers.spoken_lines import found_pattern
from .settings import RowsSettings

_SEEN = 2**16
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
    path, known = folder / settings.source, settings.as_text or tuple(READERS)
    every = _files(settings.source, folder)
    files = [file for file in every if ending(file) in known] if path.is_dir() else every
    if not files:
        found = endings_said(Counter(map(ending, every))) or "none"
        raise InputError(path, "source", f"files ending in {', '.join(known)}", found, _OTHERS)
    for file in files:
        if reader_of(file, settings.as_text) is None:
            raise InputError(file, "kind of file", ", ".join(READERS), ending(file) or file.name, _OTHERS)
        if not file.exists():
            raise InputError(file, "source", "an existing file", None, "check the path")
    return files


def _files(source: str, folder: Path) -> list[Path]:
    """Return the files that a source names, whatever their kind, in the order of their paths.

    Of a folder or a glob hidden ones are left out, and those that were written beside the sheet.
    """
    path = folder / source
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
    yield folder / "decisions.jsonl"
    for signed in folder.glob("*.signed.json"):
        yield from (signed, signed.with_name(signed.name.removesuffix(".signed.json")))


def endings_said(endings: Mapping[str, int]) -> str:
    """Say how many files have each ending."""
    return listed([f"{name or 'no ending'} {n} times" for name, n in endings.items()])


def found_text(settings: RowsSettings, folder: Path) -> tuple[tuple[str, ...], dict[str, int]]:
    """Return the ending of a source's files that is of text where no kind is known, and how many have others.

    Where files of a known kind are among them there is no such ending.
    """
    files = [file for file in _files(settings.source, folder) if file.exists()]
    unknown = Counter(ending(file) for file in files if reader_of(file) is None)
    if unknown.total() < len(files):
        return (), unknown
    firsts = {name: next(file for file in files if ending(file) == name) for name, _ in unknown.most_common() if name}
    found = next((name for name, file in firsts.items() if _is_text(file, settings.encoding)), "")
    unknown.pop(found, None)
    return ((found,) if found else ()), unknown


def _is_text(path: Path, encoding: str) -> bool:
    """Tell whether a file begins as text does."""
    return "\0" not in _beginning(path, encoding, "\0")


def _beginning(path: Path, encoding: str, otherwise: str = "") -> str:
    """Return the first characters of a file, or something else where they cannot be read: its rows are read later."""
    try:
        with open_text(path, encoding) as file:
            return file.read(_SEEN)
    except (UnicodeError, EOFError, OSError, zlib.error):
        return otherwise


def found_table(settings: RowsSettings, folder: Path) -> tuple[str, int]:
    """Return what parts the cells of a source's first file, "" for what usually does, and how many lines stand above.

    Of a file that is no table of text it is "" and 0.
    """
    first = find_files(settings, folder)[0]
    return found_layout(first, settings.encoding) if reader_of(first, settings.as_text) is read_delimited else ("", 0)


def is_prose(settings: RowsSettings, folder: Path) -> bool:
    """Tell whether a source's first file is prose, whose rows are what `unit` says."""
    return reader_of(find_files(settings, folder)[0], settings.as_text) is read_prose


def found_spoken(settings: RowsSettings, folder: Path) -> str:
    """Return the pattern of lines that say who speaks, where a source's first file is text of such, else "".

    Paragraphs that are conversations by themselves are not of such.
    """
    first = find_files(settings, folder)[0]
    if reader_of(first, settings.as_text) is not read_prose:
        return ""
    text = _beginning(first, settings.encoding).replace("\r\n", "\n")
    paragraphs = re.split(PARAGRAPH, text)
    return "" if len(paragraphs) > 2 and usual_marks(paragraphs)[0] else found_pattern(text)


def found_keys(settings: RowsSettings, folder: Path) -> list[str]:
    """Return under which keys of a source's first file rows stand, the most first; none where they stand under none."""
    first = find_files(settings, folder)[0]
    return found_arrays(first, settings.encoding) if reader_of(first, settings.as_text) is read_json else []
