"""Files to a table of text cells.

The table's index is the row's number over all files, from 1, rows that were set aside counted. Blank cells are "".
"""

from __future__ import annotations

import itertools
import json
import math
import zlib
from collections.abc import Iterator, Mapping
from dataclasses import dataclass
from pathlib import Path
from typing import Any

import pandas as pd

from foldkit.formats import InputError, near_name

from .readers import READERS, Bad, Raw, damaged
from .settings import RowsSettings
from .sources import ending, find_files


@dataclass(frozen=True)
class BadRow:
    """A row that could not be read, with its number and the reason."""

    row: int
    reason: str


@dataclass(frozen=True)
class Rows:
    """All rows of a source: the table, and those that could not be read."""

    table: pd.DataFrame
    bad: tuple[BadRow, ...] = ()


def read_rows(settings: RowsSettings, folder: Path) -> Rows:
    """Read every row of a source into one table.

    Raises InputError for a missing, empty, damaged or unknown file, for a column named in `columns` that is not
    there, and by `on_bad = "stop"` for the first row that cannot be read.
    """
    chunks = list(stream_rows(settings, folder))
    bad = [row for chunk in chunks for row in chunk.bad]
    table = pd.concat([chunk.table for chunk in chunks]) if chunks else pd.DataFrame()
    if table.empty:
        found = f"none of {len(bad)}" if bad else "an empty file"
        raise InputError(folder / settings.source, "rows", "at least one row", found, "check the export")
    return Rows(table.fillna(""), tuple(bad))


def stream_rows(settings: RowsSettings, folder: Path, n_rows: int = 20_000) -> Iterator[Rows]:
    """Yield the rows of a source in tables of at most `n_rows`, in order, so that memory stays flat."""
    numbered = enumerate(_raw_rows(settings, folder), 1)
    while batch := list(itertools.islice(numbered, n_rows)):
        yield _table(batch, settings, folder)


def column(table: pd.DataFrame, name: str, where: object) -> pd.Series[Any]:
    """Return a column; raises InputError with the near name when there is none of that name."""
    if name not in table.columns:
        raise InputError(where, "column", "a column of the rows", name, near_name(name, map(str, table.columns)))
    return table[name]


def _raw_rows(settings: RowsSettings, folder: Path) -> Iterator[Raw | Bad]:
    for file in find_files(settings.source, folder):
        try:
            yield from READERS[ending(file)](file, settings)
        except (UnicodeDecodeError, EOFError, OSError, zlib.error) as error:
            raise damaged(file, error, "a whole file") from None


def _table(batch: list[tuple[int, Raw | Bad]], settings: RowsSettings, folder: Path) -> Rows:
    numbers, cells, bad = [], [], []
    theirs = {name: ours for ours, name in settings.columns.items()}
    for number, row in batch:
        if isinstance(row, Bad):
            if settings.on_bad == "stop":
                raise row.error()
            bad.append(BadRow(number, str(row.error())))
            continue
        missing = [name for name in theirs if name not in row.cells]
        if missing:
            hint = near_name(missing[0], map(str, row.cells))
            raise InputError(row.place, "[rows] columns", "a column of the file", missing[0], hint)
        numbers.append(number)
        cells.append({theirs.get(str(k), str(k)): _text(v, strip=settings.strip) for k, v in row.cells.items()})
    table = pd.DataFrame.from_records(cells, index=pd.Index(numbers, name="row", dtype="int64")) if cells else None
    return Rows(pd.DataFrame() if table is None else table.astype(object).fillna(""), tuple(bad))


def _text(value: Any, *, strip: bool) -> str:
    """Write a cell as text: nothing as blank, lists and objects as JSON."""
    if value is None or (isinstance(value, float) and math.isnan(value)):
        return ""
    if isinstance(value, bool):
        text = str(value).lower()
    elif isinstance(value, list | Mapping):
        text = json.dumps(value, ensure_ascii=False, default=str)
    else:
        text = str(value)
    return text.strip() if strip else text
