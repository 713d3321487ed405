"""Files to a table of text cells.

The table's index is the row's number over all files, from 1, rows that were set aside counted. Blank cells are "".
"""

from __future__ import annotations

import json
import math
import zlib
from collections.abc import Iterable, Iterator, Mapping
from dataclasses import dataclass
from pathlib import Path
from typing import Any

import pandas as pd

from foldkit.formats import InputError, near_name

from .readers import READERS, Bad, Block, damaged
from .settings import RowsSettings
from .shapes import SHAPES
from .sources import ending, find_files


@dataclass(frozen=True)
class BadRow:
    """A row that could not be read, with its number and the reason."""

    row: int
    reason: str


@dataclass(frozen=True)
class Rows:
    """Rows of a source: the table, those that could not be read, and the first row number of each of its files."""

    table: pd.DataFrame
    bad: tuple[BadRow, ...] = ()
    files: tuple[tuple[int, Path], ...] = ()


def read_rows(settings: RowsSettings, folder: Path) -> Rows:
    """Read every row of a source into one table.

    Raises InputError for a missing, empty, damaged or unknown file, for a column named in `columns` that is not
    there, and by `on_bad = "stop"` for the first row that cannot be read.
    """
    return collected(stream_rows(settings, folder))


def collected(pieces: Iterable[Rows]) -> Rows:
    """Return the pieces of a source as one."""
    chunks = list(pieces)
    tables = [chunk.table for chunk in chunks if not chunk.table.empty]
    table = tables[0] if len(tables) == 1 else pd.concat(tables).fillna("") if tables else pd.DataFrame()
    bad = tuple(row for chunk in chunks for row in chunk.bad)
    return Rows(table, bad, tuple(file for chunk in chunks for file in chunk.files))


def stream_rows(settings: RowsSettings, folder: Path, n_rows: int = 5_000) -> Iterator[Rows]:
    """Yield the rows of a source in tables of at most `n_rows`, in order, so that memory stays flat.

    A source with a shape, such as a transcript, is read as a whole and shaped first. Errors are those of `read_rows`.
    """
    pieces = _shaped(settings, folder, n_rows) if settings.shape else _read(settings, folder, n_rows)
    n_read, n_bad = 0, 0
    for rows in pieces:
        n_read, n_bad = n_read + len(rows.table), n_bad + len(rows.bad)
        yield rows
    if not n_read:
        found = f"none of {n_bad}" if n_bad else "an empty file"
        raise InputError(folder / settings.source, "rows", "at least one row", found, "check the export")


def _shaped(settings: RowsSettings, folder: Path, n_rows: int) -> Iterator[Rows]:
    assert settings.shape is not None
    rows = collected(_read(settings, folder, n_rows))
    if rows.table.empty:
        yield rows
        return
    table, left_out = SHAPES[settings.shape](rows.table, getattr(settings, settings.shape))
    bad = (*rows.bad, *(BadRow(row, f"source row {row}: {reason}") for row, reason in left_out.items()))
    yield Rows(table.iloc[:n_rows], bad)
    for start in range(n_rows, len(table), n_rows):
        yield Rows(table.iloc[start : start + n_rows])


def _read(settings: RowsSettings, folder: Path, n_rows: int) -> Iterator[Rows]:
    held: list[pd.DataFrame] = []
    bad: list[BadRow] = []
    files: list[tuple[int, Path]] = []
    number = 1
    for path, item in _items(settings, folder, n_rows):
        if not files or files[-1][1] != path:
            files.append((number, path))
        if isinstance(item, Bad):
            if settings.on_bad == "stop":
                raise item.error()
            bad.append(BadRow(number, str(item.error())))
            number += 1
            continue
        if held and sum(map(len, held)) + item.n_rows > n_rows:
            yield _rows(held, bad, files)
            held, bad, files = [], [], [(number, path)]
        held.append(_table(item, number, settings))
        number += item.n_rows
    if held or bad:
        yield _rows(held, bad, files)


def _items(settings: RowsSettings, folder: Path, most: int) -> Iterator[tuple[Path, Block | Bad]]:
    for file in find_files(settings.source, folder):
        try:
            for item in READERS[ending(file)](file, settings, most):
                yield file, item
        except (UnicodeError, EOFError, OSError, zlib.error) as error:
            raise damaged(file, error, "a whole file") from None


def _rows(held: list[pd.DataFrame], bad: list[BadRow], files: list[tuple[int, Path]]) -> Rows:
    table = held[0] if len(held) == 1 else pd.concat(held).fillna("") if held else pd.DataFrame()
    return Rows(table, tuple(bad), tuple(files))


def _table(block: Block, number: int, settings: RowsSettings) -> pd.DataFrame:
    ours = {theirs: name for name, theirs in settings.columns.items()}
    missing = [name for name in ours if name not in block.columns]
    if missing:
        hint = near_name(missing[0], block.columns)
        raise InputError(block.place, "[rows] columns", "a column of the file", missing[0], hint)
    index = pd.RangeIndex(number, number + block.n_rows, name="row")
    columns = {
        ours.get(name, name): [_text(value, strip=settings.strip) for value in cells]
        for name, cells in block.columns.items()
    }
    return pd.DataFrame(columns, index=index, dtype=object)


def _text(value: Any, *, strip: bool) -> str:
    """Write a cell as text: nothing as blank, lists and objects as JSON."""
    if isinstance(value, str):
        return value.strip() if strip else value
    if value is None or (isinstance(value, float) and math.isnan(value)):
        return ""
    if isinstance(value, bool):
        text = str(value).lower()
    elif isinstance(value, list | Mapping):
        text = json.dumps(value, ensure_ascii=False, default=str)
    else:
        text = str(value)
    return text.strip() if strip else text
