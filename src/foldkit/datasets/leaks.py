"""Leaks: rows outside train that stand in train too."""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from dataclasses import dataclass

import pandas as pd

from foldkit.rows.near import NearPair, plain

from .pairs import Pair


@dataclass(frozen=True)
class Leak:
    """A row of validation or test that stands in train too: its text, its prompt, or a near copy."""

    row: int
    part: str
    train_row: int
    what: str

    def __str__(self) -> str:
        said = {"text": "has the texts of", "prompt": "has the prompt of", "near copy": "is a near copy of"}[self.what]
        return f"row {self.row} in {self.part} {said} row {self.train_row} in train"


def find_leaks(pairs: Mapping[int, Pair], parts: pd.Series, alike: Iterable[NearPair]) -> list[Leak]:
    """Return the rows outside train that stand in train too, each once, the worst first.

    Letter case and blanks do not count; `alike` are the rows that are near copies of each other.
    """
    in_train = {row: pair for row, pair in pairs.items() if parts[row] == "train"}
    whole = {plain(pair.text): row for row, pair in reversed(in_train.items())}
    prompts = {plain(pair.prompt): row for row, pair in reversed(in_train.items()) if pair.prompt.strip()}
    copies: dict[int, int] = {}
    for near in alike:
        for row, other in ((near.first, near.second), (near.second, near.first)):
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
