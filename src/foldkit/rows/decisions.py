"""Decisions made by hand: keep, drop or edit a row. The source is never changed.

A decision holds the row's mark, the fingerprint of its filled cells, so that it follows its row when rows are added or
moved, or others fill a new column, and is passed over when the row itself has changed. Of rows that are alike in every
cell the second has a 2 after it, and so on: each copy is decided on by itself.
"""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterator, Mapping, Set
from dataclasses import asdict, dataclass, field
from pathlib import Path

import pandas as pd

from foldkit.formats import append_jsonl, fingerprint_value, one_of, read_jsonl, read_settings

from .tables import rows_of

CHOICES = ("keep", "drop", "edit")


@dataclass(frozen=True)
class Decision:
    """One decision: the row as it was, by mark and number, and its new cells where it was edited."""

    row: int
    mark: str
    choice: str
    cells: dict[str, str] = field(default_factory=dict)

    def __post_init__(self) -> None:
        one_of(self.choice, CHOICES, "decision", "choice")


def decide(path: Path, decision: Decision) -> None:
    """Append a decision to the file; the last one on a row counts."""
    append_jsonl(path, asdict(decision))


def read_decisions(path: Path) -> dict[str, Decision]:
    """Return the decisions by the mark of their row; none where there is no file."""
    if not path.exists():
        return {}
    lines = read_jsonl(path, tolerate_half_line=True)
    decisions = [read_settings(Decision, line, f"{path}, decision {n}") for n, line in enumerate(lines, 1)]
    return {decision.mark: decision for decision in decisions}


def marks(table: pd.DataFrame) -> dict[int, str]:
    """Return the mark of every row by its number."""
    return dict(_marked(table, Counter()))


class Applied:
    """Decisions, applied to the tables of a source one after the other."""

    def __init__(self, decisions: Mapping[str, Decision]) -> None:
        self.decisions = decisions
        self._seen: Counter[str] = Counter()
        self._decided = {mark.partition(" ")[0] for mark in decisions}
        self._left = {mark for mark, one in decisions.items() if one.choice != "keep"}

    @property
    def left(self) -> list[int]:
        """The numbers that rows had which were to be dropped or edited, and are not among those that came."""
        return sorted(self.decisions[mark].row for mark in self._left)

    def to(self, table: pd.DataFrame) -> tuple[pd.DataFrame, list[int]]:
        """Return the next table with edited cells and without dropped rows, and the numbers of those."""
        if not self.decisions:
            return table, []
        table, dropped = table.copy(), []
        for row, mark in _marked(table, self._seen, self._decided):
            decision = self.decisions.get(mark)
            self._left.discard(mark)
            if decision is not None and decision.choice == "drop":
                dropped.append(row)
            elif decision is not None and decision.choice == "edit":
                for name, text in decision.cells.items():
                    table.loc[row, name] = text
        return table.drop(index=dropped), dropped


def _marked(table: pd.DataFrame, seen: Counter[str], among: Set[str] | None = None) -> Iterator[tuple[int, str]]:
    """Yield number and mark of the rows, all or those with a fingerprint `among` these; `seen` counts copies."""
    for row, cells in rows_of(table):
        fingerprint = fingerprint_value({name: text for name, text in cells.items() if text})
        if among is None or fingerprint in among:
            seen[fingerprint] += 1
            n = seen[fingerprint]
            yield row, fingerprint if n == 1 else f"{fingerprint} {n}"
