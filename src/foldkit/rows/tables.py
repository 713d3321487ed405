"""A table's rows as cells by column; its columns, found by name, and read as times."""

from __future__ import annotations

import itertools
from collections.abc import Iterator
from typing import Any

import pandas as pd

from foldkit.formats import InputError, near_name

_SEEN = 1000
_CLOCKS = ("", *(f"{sign} {clock}" for sign in ("", ",") for clock in ("%H:%M", "%H:%M:%S", "%I:%M %p", "%I:%M:%S %p")))
_CLOCK = r"\d{1,3}:[0-5]\d(:[0-5]\d([.,]\d+)?)?"


def column(table: pd.DataFrame, name: str, where: object) -> pd.Series[Any]:
    """Return a column; raises InputError with the near name when there is none of that name."""
    if name not in table.columns:
        raise InputError(where, "column", "a column of the rows", name, near_name(name, map(str, table.columns)))
    return table[name]


def times(cells: pd.Series[Any]) -> pd.Series[Any]:
    """Return dates, and times of day as hours:minutes or with seconds, as seconds; numbers as they are.

    Dates are those of ISO 8601, or with the day or the month first where the cells fit only one of the two. Raises
    InputError naming the first cell that is none of these.
    """
    if cells.str.fullmatch(_CLOCK).all():
        whole = cells.str.replace(",", ".").where(cells.str.count(":") > 1, cells + ":00")
        return pd.to_timedelta(whole).dt.total_seconds()
    numbers = pd.to_numeric(cells, errors="coerce")
    if numbers.notna().all():
        return numbers.astype("float64")
    dates = _dates(cells, "ISO8601")
    if dates.isna().any():
        fitting = [one for form in _forms() if not (one := _dates(cells, form)).isna().any()]
        if len(fitting) != 1:
            row = dates.index[dates.isna()][0]
            todo = "write times as 2026-03-14, 2026-03-14T18:00 or 18:00:30, or as numbers"
            allowed = "a date whose day and month can be told apart" if fitting else "a date or a number"
            raise InputError(f"row {row}, column {cells.name}", "time", allowed, cells[row], todo)
        (dates,) = fitting
    return (dates - pd.Timestamp(0, tz="UTC")).dt.total_seconds()


def _dates(cells: pd.Series[Any], form: str) -> pd.Series[Any]:
    """Return dates of this form, not a time for cells of another; of many the first tell whether the rest is read."""
    first = pd.to_datetime(cells.head(_SEEN), errors="coerce", format=form, utc=True)
    rest = cells.iloc[_SEEN:]
    return first if first.isna().any() or rest.empty else pd.to_datetime(cells, errors="coerce", format=form, utc=True)


def _forms() -> Iterator[str]:
    for sign, part, year, clock in itertools.product("/.-", ("%d{}%m", "%m{}%d"), "Yy", _CLOCKS):
        yield f"{part.format(sign)}{sign}%{year}{clock}"


def spread(table: pd.DataFrame, most: int) -> pd.DataFrame:
    """Return at most so many rows from all over a table."""
    return table.iloc[spread_places(len(table), most)]


def spread_places(n: int, most: int) -> list[int]:
    """Return at most so many places of n, from all over them: many a file is sorted, or several one after another."""
    return list(range(n)) if n <= most else [place * n // most for place in range(most)]


def rows_of(table: pd.DataFrame) -> list[tuple[int, dict[str, str]]]:
    """Return row numbers with their cells by column."""
    names = [str(name) for name in table.columns]
    cells = zip(*(table[name].tolist() for name in table.columns), strict=True)
    return [
        (row, dict(zip(names, values, strict=True))) for row, values in zip(table.index.tolist(), cells, strict=True)
    ]
