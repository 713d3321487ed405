"""The seeded split into train, validation and test.

By shares alone a row's part depends on the seed and on the row's own group or content, so that it keeps its part when
rows are added. Counts, balance, time and near copies need all rows at once; there the stored assignment is kept and
only what is new is placed.
"""

from __future__ import annotations

import dataclasses
import hashlib
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from pathlib import Path

import numpy as np
import pandas as pd

from foldkit.formats import InputError, UsageError, listed, near_name, one_of
from foldkit.formats.settings import within
from foldkit.rows.near import near_clusters
from foldkit.rows.tables import column, times

from .pairs import Pair, texts_of
from .placing import PARTS, by_hash, place_units

# The words that files, and cells that say the part of a row, have for each.
PART_OF = {
    **dict.fromkeys(("train", "training"), "train"),
    **dict.fromkeys(("validation", "valid", "val", "dev"), "validation"),
    **dict.fromkeys(("test", "testing"), "test"),
}


@dataclass(frozen=True)
class SplitSettings:
    """How many rows go to validation and test: a share under 1, or a whole number of rows.

    Rows of one `group` stay together: a column, or "near" for rows that are near copies of each other, alike at least
    `near` (0 to 1). Rows with a value named in `test_only` go to test with their group, and so do those of `files`,
    `{ test = "held.csv" }`, to theirs. `column` says the part of each row, whatever its group; where it names no test,
    or no validation, that is drawn from the rows of train. `balance` is a column whose values get the same shares in
    every part; `time` one by which the newest rows go to test and the next to validation.
    """

    validation: float = 0.1
    test: float = 0.15
    group: str = ""
    near: float = 0.85
    seed: int = 11
    test_only: dict[str, str] = field(default_factory=dict)
    files: dict[str, str] = field(default_factory=dict)
    column: str = ""
    balance: str = ""
    time: str = ""

    def __post_init__(self) -> None:
        shares = [_share("validation", self.validation), _share("test", self.test)]
        within(self.near, 0.3, 1, "[split]", "near")
        if sum(shares) >= 1:
            raise UsageError("[split]", "validation + test", "less than 1", sum(shares), "leave a share to train")
        for part in self.files:
            one_of(part, PARTS, "[split]", "files")
        if self.column and (self.files or self.test_only):
            other = "files" if self.files else "test_only"
            raise UsageError("[split]", "column", f"column or {other}", "both", "leave one of them out")
        if self.balance and self.time:
            raise UsageError("[split]", "balance", "balance or time", "both", "leave one of them out")

    @property
    def fills(self) -> bool:
        """Whether parts are filled to a size, rather than every group going its own way by hash."""
        return bool(self.balance or self.time) or self.validation >= 1 or self.test >= 1

    @property
    def by_row(self) -> bool:
        """Whether the part of a row can be told from that row alone."""
        return not (self.fills or self.keeps or self.test_only or self.files or self.column)

    @property
    def keeps(self) -> bool:
        """Whether a stored assignment is kept when rows are added, for it would come out otherwise."""
        return self.fills or self.group == "near"

    @property
    def columns(self) -> tuple[str, ...]:
        """The columns that the split reads."""
        named = (self.group if self.group != "near" else "", self.column, self.balance, self.time, *self.test_only)
        return tuple(name for name in named if name)

    def wanted(self, part: str) -> float:
        """Return the share or count that a part gets of the rows that no file is given for."""
        return 0.0 if part in self.files else {"validation": self.validation, "test": self.test}[part]


def assign_parts(
    table: pd.DataFrame,
    settings: SplitSettings,
    pairs: Mapping[int, Pair] | None = None,
    known: Mapping[int, str] | None = None,
    files: Sequence[Path] = (),
) -> pd.Series:
    """Return the part of every row, indexed by row number.

    `pairs` are needed where `group` is "near", `files`, that of each row, where parts are given by file; `known` is a
    stored assignment by content key. Raises InputError for a column that is not there, and for a part that comes out
    empty although it has a share; UsageError for a value of `test_only` that no row has.
    """
    parts = parts_of_keys(row_keys(table, settings, files), settings, pairs, known)
    check_parts(counts(list(parts)), settings)
    return parts


def row_keys(table: pd.DataFrame, settings: SplitSettings, files: Sequence[Path] = ()) -> pd.DataFrame:
    """Return what a split needs to know of each row, small enough to keep for all rows of a long source.

    Columns: `place` in 0 to 1 by the seed; and, where the part of a row cannot be told from that alone, `content` and
    `unit`, numbers of the row's text and of what it stays together with; `label` and `time` where the split uses
    them; `fixed`, the part it must go to, or blank; `only NAME`, whether it has the value of NAME in `test_only`.
    """
    content = units = _contents(table)
    if settings.group not in ("", "near"):
        groups = column(table, settings.group, "[split] group").str.strip()
        units = [group or own for group, own in zip(groups, content, strict=True)]
    frame = pd.DataFrame({"place": _places(units, settings.seed)}, index=table.index)
    if settings.by_row:
        return frame
    frame["unit"] = [_number(unit) for unit in units]
    frame["content"] = [_number(own) for own in content]
    for name, value in settings.test_only.items():
        frame[f"only {name}"] = column(table, name, "[split] test_only").str.strip() == value
    frame["fixed"] = _told(table, settings) if settings.column else _fixed(frame, settings, files)
    frame["label"] = column(table, settings.balance, "[split] balance") if settings.balance else ""
    frame["time"] = times(column(table, settings.time, "[split] time")) if settings.time else 0.0
    return frame


def content_keys(table: pd.DataFrame) -> list[int]:
    """Return a number for the text of every row."""
    return [_number(own) for own in _contents(table)]


def _contents(table: pd.DataFrame) -> list[str]:
    """Return what each row holds: a column that other rows fill changes nothing, nor does the order of columns."""
    rows = zip(*(table[name].tolist() for name in table.columns), strict=True)
    return ["\x1f".join(sorted(filter(None, row))) for row in rows]


def parts_of_keys(
    keys: pd.DataFrame,
    settings: SplitSettings,
    pairs: Mapping[int, Pair] | None = None,
    known: Mapping[int, str] | None = None,
) -> pd.Series:
    """Return the part of every row from its keys; the other arguments, and what is raised, as of `assign_parts`."""
    if settings.by_row:
        return by_hash(keys["place"], settings)
    for name, value in settings.test_only.items():
        if not keys[f"only {name}"].any():
            todo = "give one that is there (foldkit look), or leave it out"
            raise UsageError("[split] test_only", name, "a value that rows have", value, todo)
    if settings.group == "near":
        keys = _clustered(keys, pairs or {}, settings.near)
    if settings.column:
        keys, settings = _drawn_from_train(keys, settings)
    own = keys["content"].map(known or {}).fillna("") if known else pd.Series("", index=keys.index)
    placed = place_units(keys.assign(known=own), settings)
    return placed.where(own == "", own).rename("part")


def check_files(settings: SplitSettings, files: Sequence[Path]) -> None:
    """Raise UsageError for a part whose file is not among those of the source."""
    for part, name in settings.files.items():
        if not any(path.match(name) for path in files):
            known = [path.name for path in files]
            allowed = f"a file of the source: {listed(known)}"
            raise UsageError("[split]", f"files, {part}", allowed, name, near_name(name, known))


def check_parts(n_rows: Mapping[str, int], settings: SplitSettings, aside: str = "") -> None:
    """Raise InputError for a part that has no row although it has a share; `aside` says which rows are in none."""
    for part in PARTS:
        if n_rows[part] == 0 and (part == "train" or settings.wanted(part) > 0 or part in settings.files):
            what = f"none of {sum(n_rows.values())}"
            kept = f"rows of one {settings.group!r} stay in one part" if settings.group else ""
            todo = "; ".join(filter(None, ("add rows, or change the shares", kept, aside)))
            raise InputError("[split]", f"rows in {part}", "at least one", what, todo)


def counts(parts: Sequence[str]) -> dict[str, int]:
    """Return how many rows each part has, in the usual order."""
    return {part: sum(1 for name in parts if name == part) for part in PARTS}


def _share(part: str, value: float) -> float:
    """Check a share or count, and return it as a share: 0 for a count."""
    if value >= 1 and float(value).is_integer():
        return 0.0
    if not 0 <= value <= 0.9:
        raise UsageError("[split]", part, "0 to 0.9, or a whole number of rows", value, "choose one of these")
    return value


def _number(text: str) -> int:
    return int.from_bytes(hashlib.blake2b(text.encode(), digest_size=7).digest(), "big")


def _places(units: Sequence[str], seed: int) -> np.ndarray:
    begun = hashlib.sha256(f"{seed}\x1f".encode())
    digests = bytearray()
    for unit in units:
        digest = begun.copy()
        digest.update(unit.encode())
        digests += digest.digest()[:8]
    return np.frombuffer(digests, dtype=">u8") / 2.0**64


def _fixed(keys: pd.DataFrame, settings: SplitSettings, files: Sequence[Path]) -> pd.Series:
    fixed = pd.Series("", index=keys.index, dtype=object)
    for name in settings.test_only:
        fixed[keys[f"only {name}"]] = "test"
    for part, name in settings.files.items():
        given = {path: path.match(name) for path in dict.fromkeys(files)}
        fixed[np.array([given[path] for path in files], dtype=bool)] = part
    return fixed


def _told(table: pd.DataFrame, settings: SplitSettings) -> pd.Series:
    """Return the part that the column of parts says of each row, blank where it says nothing."""
    cells = column(table, settings.column, "[split] column").str.strip()
    parts = cells.str.casefold().map(PART_OF | {"": ""})
    for row in parts.index[parts.isna()][:1]:
        allowed = f"{', '.join(PART_OF)}, or blank"
        raise InputError(f"row {row}", f"column {settings.column!r}, the part", allowed, cells[row], "mend the cell")
    return parts.astype(object)


def _drawn_from_train(keys: pd.DataFrame, settings: SplitSettings) -> tuple[pd.DataFrame, SplitSettings]:
    """Return keys whose rows of train are open where a part has none of its own, and settings of that part alone.

    Where the part of a row is told, no group takes it elsewhere.
    """
    has_test, has_validation = ((keys["fixed"] == part).any() for part in ("test", "validation"))
    fixed = keys["fixed"] if has_test and has_validation else keys["fixed"].replace("train", "")
    unit = keys["unit"] * (len(PARTS) + 1) + fixed.map({"": 0, **{part: n for n, part in enumerate(PARTS, 1)}})
    validation, test = 0.0 if has_validation else settings.validation, 0.0 if has_test else settings.test
    return keys.assign(fixed=fixed, unit=unit), dataclasses.replace(settings, validation=validation, test=test)


def _clustered(keys: pd.DataFrame, pairs: Mapping[int, Pair], near: float) -> pd.DataFrame:
    clusters = near_clusters(texts_of(pairs), near)
    first = [clusters.get(int(row), int(row)) for row in keys.index]
    return keys.assign(unit=keys["unit"].loc[first].to_numpy(), place=keys["place"].loc[first].to_numpy())
