"""The seeded split into train, validation and test.

A row's part depends on the seed and on the row's own group or content alone, so that a row keeps its part when others
are added.
"""

from __future__ import annotations

import hashlib
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field

import pandas as pd

from foldkit.formats import InputError, UsageError
from foldkit.formats.settings import within
from foldkit.rows.reading import column

PARTS = ("train", "validation", "test")


@dataclass(frozen=True)
class SplitSettings:
    """Shares of the parts; rows of one `group` stay together; rows with a value named in `test_only` go to test."""

    validation: float = 0.1
    test: float = 0.15
    group: str = ""
    seed: int = 11
    test_only: dict[str, str] = field(default_factory=dict)

    def __post_init__(self) -> None:
        within(self.validation, 0, 0.9, "[split]", "validation")
        within(self.test, 0, 0.9, "[split]", "test")
        if self.validation + self.test >= 1:
            total = self.validation + self.test
            raise UsageError("[split]", "validation + test", "less than 1", total, "leave a share to train")


@dataclass(frozen=True)
class Leak:
    """A row of validation or test whose texts also stand in a row of train."""

    row: int
    part: str
    train_row: int


def assign_parts(table: pd.DataFrame, settings: SplitSettings) -> pd.Series:
    """Return the part of every row, indexed by row number.

    Raises InputError for a column that is not there, and for a part that comes out empty although it has a share.
    """
    keys = _group_keys(table, settings)
    only = pd.Series(False, index=table.index)
    for name, value in settings.test_only.items():
        only |= column(table, name, "[split] test_only").str.strip() == value
    kept_out = set(keys[only])
    shares = {key: "test" if key in kept_out else _part(settings, key) for key in set(keys)}
    parts = keys.map(shares)
    for part, share in (("train", 1.0), ("validation", settings.validation), ("test", settings.test)):
        if share > 0 and not (parts == part).any():
            what = f"none of {len(table)}"
            raise InputError("[split]", f"rows in {part}", "at least one", what, "add rows or raise the share")
    return parts.rename("part")


def find_leaks(texts: Mapping[int, str], parts: pd.Series) -> list[Leak]:
    """Return rows outside train whose text, letter case and blanks aside, is that of a row in train."""
    in_train: dict[str, int] = {}
    for row, text in texts.items():
        if parts[row] == "train":
            in_train.setdefault(_plain(text), row)
    others = [(row, text) for row, text in texts.items() if parts[row] != "train"]
    return [Leak(row, str(parts[row]), in_train[_plain(text)]) for row, text in others if _plain(text) in in_train]


def counts(parts: Sequence[str]) -> dict[str, int]:
    """Return how many rows each part has, in the usual order."""
    return {part: sum(1 for name in parts if name == part) for part in PARTS}


def _group_keys(table: pd.DataFrame, settings: SplitSettings) -> pd.Series:
    content = table.astype(str).agg("\x1f".join, axis=1)
    if not settings.group:
        return content
    cells = column(table, settings.group, "[split] group").str.strip()
    return cells.where(cells != "", content)


def _part(settings: SplitSettings, key: str) -> str:
    digest = hashlib.sha256(f"{settings.seed}\x1f{key}".encode()).digest()
    place = int.from_bytes(digest[:8], "big") / 2**64
    if place < settings.test:
        return "test"
    return "validation" if place < settings.test + settings.validation else "train"


def _plain(text: str) -> str:
    return " ".join(text.casefold().split())
