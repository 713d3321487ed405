"""How a source is to be read, found from its files: a start takes it for granted, and says so."""

from __future__ import annotations

import dataclasses
import re
import zlib
from collections import Counter
from collections.abc import Mapping
from pathlib import Path
from typing import NamedTuple

from .marks import usual_marks
from .readers.contract import open_text
from .readers.delimited import found_layout, read_delimited
from .readers.json_files import found_arrays, read_json
from .readers.prose import PARAGRAPH, read_prose
from .readers.spoken_lines import found_pattern
from .settings import RowsSettings
from .sources import ending, files_of, find_files, reader_of

_SEEN = 2**16


class FoundReading(NamedTuple):
    """What `[rows]` need to say of a source, "" and 0 for what is usual.

    `text_ending` is an ending of text files of no known kind, `unread` how many files are of no known kind by their
    endings; `keys` are those under which rows stand in a JSON file, the most first; `prose` has units.
    """

    text_ending: str
    unread: Mapping[str, int]
    delimiter: str = ""
    skip: int = 0
    keys: tuple[str, ...] = ()
    pattern: str = ""
    prose: bool = False

    @property
    def as_text(self) -> tuple[str, ...]:
        """The ending of files that are to be read as text: where none is of a known kind."""
        return (self.text_ending,) if self.text_ending and self.text_ending not in self.unread else ()


def found_reading(settings: RowsSettings, folder: Path) -> FoundReading:
    """Return how a source is read, by its first file; raises InputError as `find_files` does."""
    found = _by_endings(settings, folder)
    first = find_files(dataclasses.replace(settings, as_text=found.as_text), folder)[0]
    reader, encoding = reader_of(first, found.as_text), settings.encoding
    if reader is read_delimited:
        delimiter, skip = found_layout(first, encoding)
        return found._replace(delimiter=delimiter, skip=skip)
    if reader is read_json:
        return found._replace(keys=tuple(found_arrays(first, encoding)))
    if reader is read_prose:
        pattern = _spoken(_beginning(first, encoding).replace("\r\n", "\n"))
        return found._replace(pattern=pattern, prose=not pattern)
    return found


def _by_endings(settings: RowsSettings, folder: Path) -> FoundReading:
    files = [file for file in files_of(settings.source, folder) if file.exists()]
    unknown = Counter(ending(file) for file in files if reader_of(file) is None)
    firsts = {name: next(file for file in files if ending(file) == name) for name, _ in unknown.most_common() if name}
    text = next((name for name, file in firsts.items() if "\0" not in _beginning(file, settings.encoding, "\0")), "")
    if unknown.total() == len(files):
        unknown.pop(text, None)
    return FoundReading(text, unknown)


def _beginning(path: Path, encoding: str, otherwise: str = "") -> str:
    """Return the first characters of a file, or something else where they cannot be read: its rows are read later."""
    try:
        with open_text(path, encoding) as file:
            return file.read(_SEEN)
    except (UnicodeError, EOFError, OSError, zlib.error):
        return otherwise


def _spoken(text: str) -> str:
    """Return the pattern of lines that say who speaks, "" also where paragraphs are conversations by themselves."""
    paragraphs = re.split(PARAGRAPH, text)
    return "" if len(paragraphs) > 2 and usual_marks(paragraphs)[0] else found_pattern(text)
