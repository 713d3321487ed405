"""Decisions made by hand: keep, drop or edit a row. The source is never changed.

A decision holds the fingerprint of the row's cells, so that it follows its row when rows are added or moved, and is
passed over when the row itself has changed.
"""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import asdict, dataclass, field
from pathlib import Path

import pandas as pd

from foldkit.formats import append_jsonl, fingerprint_value, one_of, read_jsonl

from .tables import rows_of

CHOICES = ("keep", "drop", "edit")


@dataclass(frozen=True)
class Decision:
    """One decision: the row as it was, by fingerprint and number, and its new cells where it was edited."""

    row: int
    fingerprint: str
    choice: str
    cells: dict[str, str] = field(default_factory=dict)

    def __post_init__(self) -> None:
        one_of(self.choice, CHOICES, "decision", "choice")


def decide(path: Path, decision: Decision) -> None:
    """Append a decision to the file; the last one on a row counts."""
    append_jsonl(path, asdict(decision))


def read_decisions(path: Path) -> dict[str, Decision]:
    """Return the decisions by the fingerprint of their row; none where there is no file."""
    if not path.exists():
        return {}
    decisions = [Decision(**line) for line in read_jsonl(path, tolerate_half_line=True)]
    return {decision.fingerprint: decision for decision in decisions}


def apply_decisions(table: pd.DataFrame, decisions: Mapping[str, Decision]) -> tuple[pd.DataFrame, list[int]]:
    """Return the table with edited cells and without dropped rows, and the numbers of those."""
    if not decisions:
        return table, []
    table, dropped = table.copy(), []
    for row, cells in rows_of(table):
        decision = decisions.get(fingerprint_value(cells))
        if decision is not None and decision.choice == "drop":
            dropped.append(row)
        elif decision is not None and decision.choice == "edit":
            for name, text in decision.cells.items():
                table.loc[row, name] = text
    return table.drop(index=dropped), dropped


def undecided(table: pd.DataFrame, decisions: Mapping[str, Decision]) -> list[int]:
    """Return the numbers of the rows that no decision was made on."""
    return [row for row, cells in rows_of(table) if fingerprint_value(cells) not in decisions]
