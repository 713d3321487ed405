"""A column for each label, which says yes or no to it: a row with the labels that are ticked."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

import pandas as pd

from foldkit.formats import UsageError

from ..tables import column, rows_of
from .contract import SOURCE_ROW, renumbered

# What a cell says, letter case aside.
_TICKS = {
    **dict.fromkeys(("1", "1.0", "true", "yes", "y", "x"), True),
    **dict.fromkeys(("0", "0.0", "false", "no", "n", ""), False),
}


@dataclass(frozen=True)
class TickedSettings:
    """The `columns`, each with the name of a label; `label` is the column that they become.

    The labels of a row stand in it in the order of the columns, with `between` between them, or `none` if it has none.
    """

    columns: tuple[str, ...]
    label: str = "label"
    between: str = "; "
    none: str = "none"

    def __post_init__(self) -> None:
        if len(self.columns) < 2:
            todo = "name the column of each label; one alone is a label as it is"
            raise UsageError("[rows.ticked]", "columns", "two or more", list(self.columns), todo)


def labels_ticked(table: pd.DataFrame, settings: TickedSettings) -> tuple[pd.DataFrame, dict[int, str]]:
    """Return the rows with the label in place of its columns, and `source_row`.

    A row is left out whose columns are all blank, or one of which says neither yes nor no.
    """
    for name in settings.columns:
        column(table, name, "[rows.ticked] columns")
    others = [name for name in map(str, table) if name not in (*settings.columns, settings.label)]
    rows: list[dict[str, str]] = []
    left_out: dict[int, str] = {}
    for row, own in rows_of(table):
        cells = {name: own[name].strip() for name in settings.columns}
        told = {name: _TICKS.get(cell.casefold()) for name, cell in cells.items()}
        if not any(cells.values()):
            left_out[row] = f"blank: {', '.join(cells)}"
        elif unknown := next((name for name, tick in told.items() if tick is None), ""):
            left_out[row] = f"{unknown} {cells[unknown]!r} says neither yes nor no"
        else:
            label = settings.between.join(name for name, tick in told.items() if tick) or settings.none
            rows.append({name: own[name] for name in others} | {settings.label: label, SOURCE_ROW: str(row)})
    return renumbered(rows, (*others, settings.label, SOURCE_ROW)), left_out


def tick_columns(table: pd.DataFrame) -> list[str]:
    """Return the columns in which every cell says yes or no, and some say each."""
    return [str(name) for name in table if _are_ticks(table[name])]


def _are_ticks(cells: pd.Series[Any]) -> bool:
    told = {_TICKS.get(cell) for cell in cells.str.strip().str.casefold().unique()}
    return told == {True, False}
