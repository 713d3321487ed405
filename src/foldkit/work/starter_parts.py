"""Parts that rows come in already: files that are named for one, or a column that says it."""

from __future__ import annotations

import glob
import itertools
import re
from collections import Counter
from collections.abc import Sequence
from dataclasses import dataclass, field
from pathlib import Path

import pandas as pd

from foldkit.datasets.placing import PARTS
from foldkit.datasets.splitting import PART_OF
from foldkit.formats import listed


@dataclass(frozen=True)
class ToldParts:
    """The parts that are told: for each the pattern of its files, or in which column; and what that assumes."""

    files: dict[str, str] = field(default_factory=dict)
    column: str = ""
    names: frozenset[str] = frozenset()
    said: str = ""

    def leaves(self, part: str) -> bool:
        """Whether rows have still to be drawn for a part."""
        return part not in self.names

    @property
    def whole(self) -> bool:
        """Whether nothing has to be drawn."""
        return self.names >= {"validation", "test"}


# Where rows say their part, and the examples that are made of them do not.
NO_COLUMN_LEFT = ToldParts(said="the parts are drawn anew: examples made of several rows have no column of parts")


def told_parts(files: Sequence[Path], source: Path, table: pd.DataFrame) -> ToldParts:
    """Return the parts that the files of a source are named for, or else those that a column says."""
    by_file = _in_files(files, source)
    return by_file if by_file.files else _in_column(table)


def _in_files(files: Sequence[Path], source: Path) -> ToldParts:
    """Return the files of validation and test among those of a source, where others are named for train."""
    of_part: dict[str, list[Path]] = {}
    for file in files:
        of_part.setdefault(_part_of(file, source), []).append(file)
    patterns = {part: _pattern(of_part.get(part, ()), files) for part in ("validation", "test")}
    found = {part: pattern for part, pattern in patterns.items() if pattern}
    if "train" not in of_part or not found:
        return ToldParts()
    said = ", ".join(f"{pattern} is {part}" for part, pattern in found.items())
    return ToldParts(found, "", frozenset(found), f"files that are named for a part are it: {said}")


def parts_beside(file: Path) -> str:
    """Say of a file that is named for train which files beside it are named for other parts, "" where none is."""
    others = sorted(own for own in file.parent.glob(f"*{file.suffix}") if own.is_file())
    if _part_of(file, file.parent) != "train" or not (found := _in_files(others, file.parent).files):
        return ""
    named = listed([*found.values()])
    return f"files beside it are named for other parts, and are not read: {named}; their folder can be the source"


def _in_column(table: pd.DataFrame) -> ToldParts:
    """Return the column in which each cell is the name of a part, that of train among others."""
    for name in table.columns:
        cells = table[name].str.strip().str.casefold()
        values = set(cells) - {""}
        parts = {PART_OF[value] for value in values if value in PART_OF}
        if values <= PART_OF.keys() and "train" in parts and len(parts) > 1:
            counts = Counter(PART_OF[value] for value in cells if value)
            told = ", ".join(f"{part} {counts[part]:,}" for part in PARTS if counts[part])
            said = f"column {str(name)!r} says which part a row is in: {told}"
            return ToldParts({}, str(name), frozenset(parts - {"train"}), said)
    return ToldParts()


def _part_of(file: Path, source: Path) -> str:
    """Return the part that a file is named for, or a folder it is in below the source; "" for none, or for several."""
    below = file.relative_to(source).parts if file.is_relative_to(source) else (file.name,)
    for name in reversed(below):
        parts = {PART_OF[word] for word in re.findall(r"[a-z]+", name.lower()) if word in PART_OF}
        if parts:
            return parts.pop() if len(parts) == 1 else ""
    return ""


def _pattern(own: Sequence[Path], files: Sequence[Path]) -> str:
    """Return a pattern that fits these files, and no others of the source; "" where there is none."""
    if not own:
        return ""
    letters = itertools.takewhile(lambda those: len(set(those)) == 1, zip(*(file.name for file in own), strict=False))
    begins, name, parent = map(glob.escape, ("".join(one for one, *_ in letters), own[0].name, own[0].parent.name))
    patterns = [name, f"{begins}*", f"{parent}/{name}", f"{parent}/*"]
    return next((one for one in patterns if [file for file in files if file.match(one)] == list(own)), "")
