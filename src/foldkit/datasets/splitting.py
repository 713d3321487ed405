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
from foldkit.rows.near import near_clusters, near_pairs, plain
from foldkit.rows.reading import column

from .pairs import Pair, texts_of

PARTS = ("train", "validation", "test")


@dataclass(frozen=True)
class SplitSettings:
    """Shares of the parts; rows of one `group` stay together; rows with a value named in `test_only` go to test.

    `group` is a column, or "near": rows that are near copies of each other, alike at least `near` (0 to 1).
    """

    validation: float = 0.1
    test: float = 0.15
    group: str = ""
    near: float = 0.85
    seed: int = 11
    test_only: dict[str, str] = field(default_factory=dict)

    def __post_init__(self) -> None:
        within(self.validation, 0, 0.9, "[split]", "validation")
        within(self.test, 0, 0.9, "[split]", "test")
        within(self.near, 0.3, 1, "[split]", "near")
        if self.validation + self.test >= 1:
            total = self.validation + self.test
            raise UsageError("[split]", "validation + test", "less than 1", total, "leave a share to train")


@dataclass(frozen=True)
class Leak:
    """A row of validation or test that stands in train too: its text, its prompt, or a near copy."""

    row: int
    part: str
    train_row: int
    what: str


def assign_parts(table: pd.DataFrame, settings: SplitSettings, pairs: Mapping[int, Pair] | None = None) -> pd.Series:
    """Return the part of every row, indexed by row number; `pairs` are needed where `group` is "near".

    Raises InputError for a column that is not there, and for a part that comes out empty although it has a share.
    """
    keys = _group_keys(table, settings, pairs or {})
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


def find_leaks(pairs: Mapping[int, Pair], parts: pd.Series, near: float) -> list[Leak]:
    """Return the rows outside train that stand in train too, each once, the worst first.

    Letter case and blanks do not count; `near` is the likeness from which a row is a near copy.
    """
    in_train = {row: pair for row, pair in pairs.items() if parts[row] == "train"}
    whole = {plain(pair.text): row for row, pair in reversed(in_train.items())}
    prompts = {plain(pair.prompt): row for row, pair in reversed(in_train.items()) if pair.prompt.strip()}
    copies: dict[int, int] = {}
    for alike in near_pairs(texts_of(pairs), near):
        for row, other in ((alike.first, alike.second), (alike.second, alike.first)):
            if other in in_train:
                copies.setdefault(row, other)
    leaks = []
    for row, pair in pairs.items():
        found = (("text", whole.get(plain(pair.text))), ("prompt", prompts.get(plain(pair.prompt))))
        for what, train_row in (*found, ("near copy", copies.get(row))):
            if row not in in_train and train_row is not None:
                leaks.append(Leak(row, str(parts[row]), train_row, what))
                break
    return sorted(leaks, key=lambda leak: ("text", "prompt", "near copy").index(leak.what))


def counts(parts: Sequence[str]) -> dict[str, int]:
    """Return how many rows each part has, in the usual order."""
    return {part: sum(1 for name in parts if name == part) for part in PARTS}


def _group_keys(table: pd.DataFrame, settings: SplitSettings, pairs: Mapping[int, Pair]) -> pd.Series:
    content = table.astype(str).agg("\x1f".join, axis=1)
    if not settings.group:
        return content
    if settings.group == "near":
        clusters = near_clusters(texts_of(pairs), settings.near)
        return pd.Series([content[clusters.get(int(row), int(row))] for row in table.index], index=table.index)
    cells = column(table, settings.group, "[split] group").str.strip()
    return cells.where(cells != "", content)


def _part(settings: SplitSettings, key: str) -> str:
    digest = hashlib.sha256(f"{settings.seed}\x1f{key}".encode()).digest()
    place = int.from_bytes(digest[:8], "big") / 2**64
    if place < settings.test:
        return "test"
    return "validation" if place < settings.test + settings.validation else "train"
