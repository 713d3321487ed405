"""CSV and JSON lines to a table of text cells.

The table's index is the row's number in the file, from 1, the header not counted. Blank cells are "".
"""

from __future__ import annotations

import csv
import io
from dataclasses import dataclass
from pathlib import Path
from typing import Any

import pandas as pd

from foldkit.formats import InputError, near_name, read_jsonl
from foldkit.formats.jsonl import read_text


@dataclass(frozen=True)
class RowsSettings:
    """Where the rows come from; `strip` takes blanks off both ends of every cell."""

    source: str
    strip: bool = True


def read_rows(path: Path, *, strip: bool = True) -> pd.DataFrame:
    """Return the rows of a `.csv` or `.jsonl` file, every cell as text.

    Raises InputError for a missing or empty file, another kind of file, a row with too many or too few cells, and a
    bad JSON line.
    """
    readers = {".csv": _read_csv, ".jsonl": _read_jsonl}
    if path.suffix.lower() not in readers:
        raise InputError(path, "kind of file", ".csv or .jsonl", path.suffix, "export the rows as one of these")
    table = readers[path.suffix.lower()](path)
    if table.empty:
        raise InputError(path, "rows", "at least one row", "an empty file", "check the export")
    table.index = pd.RangeIndex(1, len(table) + 1, name="row")
    return table.map(str.strip) if strip else table


def column(table: pd.DataFrame, name: str, where: object) -> pd.Series[Any]:
    """Return a column; raises InputError with the near name when there is none of that name."""
    if name not in table.columns:
        raise InputError(where, "column", "a column of the rows", name, near_name(name, map(str, table.columns)))
    return table[name]


def _read_csv(path: Path) -> pd.DataFrame:
    lines = csv.reader(io.StringIO(read_text(path), newline=""), strict=True)
    try:
        cells = [line for line in lines if line]
    except csv.Error as error:
        raise InputError(f"{path}, line {lines.line_num}", "line", "CSV", str(error), "mend its quotes") from None
    if not cells:
        raise InputError(path, "rows", "a header and at least one row", "an empty file", "check the export")
    header = [name.strip() for name in cells[0]]
    _check_header(path, header)
    for number, line in enumerate(cells[1:], 1):
        if len(line) != len(header):
            what = f"{len(line)} cells"
            raise InputError(
                f"{path}, row {number}", "row", f"{len(header)} cells", what, "quote cells that hold commas"
            )
    return pd.DataFrame(cells[1:], columns=header, dtype=object)


def _check_header(path: Path, header: list[str]) -> None:
    repeated = sorted({name for name in header if header.count(name) > 1})
    if repeated:
        raise InputError(path, "header", "every column once", repeated[0], "rename one of the two")


def _read_jsonl(path: Path) -> pd.DataFrame:
    objects = read_jsonl(path)
    columns = list(dict.fromkeys(key for value in objects for key in value))
    for number, value in enumerate(objects, 1):
        for key, cell in value.items():
            if isinstance(cell, dict | list):
                raise InputError(f"{path}, row {number}", f"column {key}", "text or a number", cell, "flatten the rows")
    cells = [["" if value.get(key) is None else str(value[key]) for key in columns] for value in objects]
    return pd.DataFrame(cells, columns=columns, dtype=object)
