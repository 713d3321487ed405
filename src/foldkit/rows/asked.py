"""Files of questions, read as the rows of a training were: their names of columns, their choices, their blanks."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, field
from pathlib import Path

import pandas as pd

from .paths import column_of, texts_at
from .reading import read_rows
from .settings import RowsSettings
from .shapes import choice_lines


@dataclass(frozen=True)
class AskedRows:
    """How rows became slots in a training: `columns` and `strip` as in `[rows]`, `choices` as in `[rows.choices]`."""

    strip: bool = True
    columns: dict[str, str] = field(default_factory=dict)
    choices: tuple[str, ...] = ()

    @classmethod
    def of(cls, settings: RowsSettings) -> AskedRows:
        """Return how such rows are read."""
        return cls(settings.strip, settings.columns, settings.choices.choices if settings.choices else ())

    def read(self, source: str, slots: Sequence[str]) -> pd.DataFrame:
        """Read a file, its columns as they stand there, and those of slots that they hold under other names.

        Raises InputError for a file that cannot be read.
        """
        table = read_rows(RowsSettings(source, strip=self.strip), Path()).table
        named = {name: cells for name, path in self.columns.items() if (cells := self._at(table, path)) is not None}
        given = [cells for name in self.choices if (cells := named.get(name) or self._at(table, name)) is not None]
        if given and len(given) == len(self.choices):
            named["choices"] = [choice_lines(cells) for cells in zip(*given, strict=True)]
        return table.assign(**{slot: named[slot] for slot in slots if slot in named})

    def _at(self, table: pd.DataFrame, path: str) -> list[str] | None:
        return texts_at(table, path, strip=self.strip)

    def used(self, columns: Sequence[str]) -> set[str]:
        """Return those of a file's columns that slots are made of under other names."""
        theirs = (*self.columns.values(), *self.choices)
        return {name for path in theirs if (name := column_of(path, columns)) is not None}
