"""A table's rows as cells by column; its columns, found by name, and read as times."""

from __future__ import annotations

from typing import Any

import pandas as pd

from foldkit.formats import InputError, near_name

_CLOCK = r"\d{1,3}:[0-5]\d(:[0-5]\d([.,]\d+)?)?"


def column(table: pd.DataFrame, name: str, where: object) -> pd.Series[Any]:
    """Return a column; raises InputError with the near name when there is none of that name."""
    if name not in table.columns:
        raise InputError(where, "column", "a column of the rows", name, near_name(name, map(str, table.columns)))
    return table[name]


def times(cells: pd.Series[Any]) -> pd.Series[Any]:
    """Return dates, and times of day as hours:minutes or with seconds, as seconds; numbers as they are.

    Raises InputError naming the first cell that is none of these.
    """
    if cells.str.fullmatch(_CLOCK).all():
        return pd.to_timedelta(
            cells.str.replace(",", ".").where(cells.str.count(":") > 1, cells + ":00")
        ).dt.total_seconds()
    numbers = pd.to_numeric(cells, errors="coerce")
    if numbers.notna().all():
        return numbers.astype("float64")
    dates = pd.to_datetime(cells, errors="coerce", format="ISO8601", utc=True)
    if dates.isna().any():
        row = dates.index[dates.isna()][0]
        todo = "write times as 2026-03-14, 2026-03-14T18:00 or 18:00:30, or as numbers"
        raise InputError(f"row {row}, column {cells.name}", "time", "a date or a number", cells[row], todo)
    return (dates - pd.Timestamp(0, tz="UTC")).dt.total_seconds()


def rows_of(table: pd.DataFrame) -> list[tuple[int, dict[str, str]]]:
    """Return row numbers with their cells by column."""
    names = [str(name) for name in table.columns]
    cells = zip(*(table[name].tolist() for name in table.columns), strict=True)
    return [
        (row, dict(zip(names, values, strict=True))) for row, values in zip(table.index.tolist(), cells, strict=True)
    ]
