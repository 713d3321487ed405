"""Tables of text: CSV, TSV, or any other delimiter, with a header or without."""

from __future__ import annotations

import contextlib
import csv
import itertools
import json
import statistics
import zlib
from collections import Counter
from collections.abc import Iterator
from pathlib import Path
from typing import Any, NamedTuple

from foldkit.formats import InputError

from ..settings import RowsSettings
from .contract import Bad, Block, open_text

csv.field_size_limit(2**31 - 1)
# What else parts cells where a header comes out as one.
_OTHERS = (";", "\t", "|", ",")
_LOOKED_AT, _MOST = 200, 0.8


def read_delimited(path: Path, settings: RowsSettings, most: int) -> Iterator[Block | Bad]:
    """Yield the rows; without a header, or a name in it, the columns are column_1, column_2 and so on.

    As many lines as `settings.skip` says are passed over first. Raises InputError where the header is one cell that
    another delimiter would part, unless `settings` name theirs.
    """
    delimiter = settings.delimiter or _usual(path)
    with open_text(path, settings.encoding) as file:
        for _ in range(settings.skip):
            next(file, None)
        reader = csv.reader(file, delimiter=delimiter, strict=True)
        lines = _whole_lines(path, reader, settings.skip)
        first = next(lines, None)
        if first is None:
            return
        if settings.header and not settings.delimiter and (other := _other(first)):
            todo = f"set delimiter = {json.dumps(other)} in [rows], or {json.dumps(delimiter)} if it is one column"
            raise InputError(path, "header", f"columns parted by {delimiter!r}", first[0], todo)
        header = _header(path, first, settings)
        number, held = 1, [] if settings.header else [first]
        for cells in lines:
            if len(cells) == len(header) and len(held) < most:
                held.append(cells)
                continue
            if held:
                yield _block(path, number, header, held)
            number, held = number + len(held), []
            if len(cells) == len(header):
                held.append(cells)
                continue
            place = f"{path}, row {number} (line {settings.skip + reader.line_num})"
            number += 1
            todo = f"quote cells that hold {delimiter!r}"
            yield Bad(place, "row", f"{len(header)} cells", f"{len(cells)} cells", todo)
        if held:
            yield _block(path, number, header, held)


def found_layout(path: Path, encoding: str) -> tuple[str, int]:
    """Return what parts the cells of a file, "" for what usually does, and how many lines stand above its header.

    Another delimiter does where it alone parts the header, or the first lines. Above the header are lines with one
    cell, or at most a third of those that the first lines fill; only where these are as wide as one another.
    """
    with contextlib.suppress(csv.Error):  # said when the rows are read
        return _layout(_first_lines(path, encoding), path)
    return "", 0


def _layout(lines: list[str], path: Path) -> tuple[str, int]:
    other = _other(next(csv.reader(lines, delimiter=_usual(path)), []))
    for delimiter in (other,) if other else ("", *_OTHERS):
        records = _records(lines, delimiter or _usual(path))
        usual = statistics.median_high([one.n_filled for one in records] or [0])
        n_even = max(Counter(one.width for one in records if one.n_filled).values(), default=0)
        if usual > 1 and n_even >= _MOST * len(records):
            return delimiter, next(one.start for one in records if one.n_filled > max(1, usual / 3))
    return other, 0


class _Record(NamedTuple):
    """How many lines stand before a record, how many cells it has, and how many are filled."""

    start: int
    width: int
    n_filled: int


def _records(lines: list[str], delimiter: str) -> list[_Record]:
    """Return the records of lines, but for a last one that breaks off."""
    found, start = list[_Record](), 0
    reader = csv.reader(lines, delimiter=delimiter)
    for cells in reader:
        found.append(_Record(start, len(cells), sum(bool(cell.strip()) for cell in cells)))
        start = reader.line_num
    return found[: len(found) - (len(lines) == _LOOKED_AT)]


def _first_lines(path: Path, encoding: str) -> list[str]:
    # What is wrong with a file is said when its rows are read.
    with contextlib.suppress(UnicodeError, csv.Error, EOFError, OSError, zlib.error), open_text(path, encoding) as file:
        return list(itertools.islice(file, _LOOKED_AT))
    return []


def _usual(path: Path) -> str:
    name = path.name.lower().removesuffix(".gz")
    return "\t" if name.endswith((".tsv", ".tab")) else ","


def _other(header: list[str]) -> str:
    return next((sign for sign in _OTHERS if len(header) == 1 and sign in header[0]), "")


def _whole_lines(path: Path, reader: Any, skip: int) -> Iterator[list[str]]:
    """Yield the cells of each line that is not blank; raises InputError naming the line that is no CSV."""
    try:
        for cells in reader:
            if cells:
                yield cells
    except csv.Error as error:
        raise InputError(
            f"{path}, line {skip + reader.line_num}", "line", "CSV", str(error), "mend its quotes"
        ) from None


def _block(path: Path, number: int, header: list[str], lines: list[list[str]]) -> Block:
    columns = dict(zip(header, map(list, zip(*lines, strict=True)), strict=True))
    return Block(f"{path}, row {number}", columns, len(lines))


def _header(path: Path, cells: list[str], settings: RowsSettings) -> list[str]:
    if not settings.header:
        return [f"column_{index}" for index in range(1, len(cells) + 1)]
    header = [name.strip() or f"column_{index}" for index, name in enumerate(cells, 1)]
    repeated = sorted({name for name in header if header.count(name) > 1})
    if repeated:
        raise InputError(path, "header", "every column once", repeated[0], "rename one of the two")
    return header
