"""What stands in the rows: blanks, distinct values, lengths, stray numbers, duplicates."""

from __future__ import annotations

import sys
import unicodedata
from collections import Counter
from dataclasses import dataclass

import numpy as np
import pandas as pd

_AT_ONCE = 20_000  # rows whose letters are counted at once
_ID_NAMES = frozenset({"id", "key", "number", "row", "index"})


@dataclass(frozen=True)
class ColumnSummary:
    """One column; lengths in characters over filled cells."""

    name: str
    n_blank: int
    n_distinct: int
    n_numbers: int
    median_length: int
    longest: int
    sample: str


@dataclass(frozen=True)
class RowsSummary:
    """A table at a glance.

    `duplicates` holds the numbers of rows whose texts stand in an earlier row, `scripts` the share of letters of each
    script (Latin, Cyrillic, …), the commonest first.
    """

    n_rows: int
    columns: tuple[ColumnSummary, ...]
    duplicates: tuple[int, ...]
    scripts: dict[str, float]

    @property
    def odd_cells(self) -> list[str]:
        """Columns of text in which a few cells are only a number, in words."""
        return [
            f"column {c.name}: {c.n_numbers} cell{'s' * (c.n_numbers != 1)} with only a number where the rest is text"
            for c in self.columns
            if 0 < c.n_numbers < 0.1 * self.n_rows
        ]


def summarise(table: pd.DataFrame) -> RowsSummary:
    """Return what a person would want to know before using the rows.

    A column named as an id does not count when duplicates are looked for.
    """
    columns = tuple(_column(table, str(name)) for name in table.columns)
    telling = [c.name for c in columns if c.name.lower() not in _ID_NAMES]
    repeated = table.duplicated(subset=telling or None)
    return RowsSummary(len(table), columns, tuple(int(row) for row in table.index[repeated]), _scripts(table))


def _scripts(table: pd.DataFrame) -> dict[str, float]:
    counted = np.zeros(sys.maxunicode + 1, dtype=np.int64)
    for name in table.columns:
        for start in range(0, len(table), _AT_ONCE):
            text = "".join(table[name].iloc[start : start + _AT_ONCE])
            found = np.bincount(np.frombuffer(text.encode("utf-32-le", "surrogatepass"), dtype="<u4"))
            counted[: len(found)] += found
    letters: Counter[str] = Counter()
    for code in np.flatnonzero(counted).tolist():
        if (letter := chr(code)).isalpha():
            letters[unicodedata.name(letter, "UNKNOWN").split()[0].capitalize()] += int(counted[code])
    return {script: n / letters.total() for script, n in letters.most_common()}


def _column(table: pd.DataFrame, name: str) -> ColumnSummary:
    cells = table[name]
    filled = cells[cells.str.strip() != ""]
    lengths = filled.str.len()
    return ColumnSummary(
        name=name,
        n_blank=len(cells) - len(filled),
        n_distinct=int(filled.nunique()),
        n_numbers=int(filled.str.fullmatch(r"\s*[-+]?[\d.,]+\s*").sum()),
        median_length=int(lengths.median()) if len(filled) else 0,
        longest=int(lengths.max()) if len(filled) else 0,
        sample=str(filled.iloc[0]) if len(filled) else "",
    )
