"""Two columns of the same texts in two languages: a row for each direction."""

from __future__ import annotations

from dataclasses import dataclass

import pandas as pd

from foldkit.formats import one_of

from ..tables import column
from .contract import renumbered

DIRECTIONS = ("both", "forward", "backward")


@dataclass(frozen=True)
class BilingualSettings:
    """The columns `first` and `second`; `names` are their languages as a prompt would say them, or the columns' own.

    `direction` is forward, from first to second, backward, or both.
    """

    first: str
    second: str
    names: tuple[str, ...] = ()
    direction: str = "both"

    def __post_init__(self) -> None:
        one_of(self.direction, DIRECTIONS, "[rows.bilingual]", "direction")


def both_ways(table: pd.DataFrame, settings: BilingualSettings) -> tuple[pd.DataFrame, dict[int, str]]:
    """Return rows with `text`, `translation`, `into` and `source_row`; both directions of a row stand together.

    A row with a blank on either side is left out.
    """
    names = settings.names or (settings.first, settings.second)
    ways = {"forward": [(0, 1)], "backward": [(1, 0)], "both": [(0, 1), (1, 0)]}[settings.direction]
    sides = [column(table, name, "[rows.bilingual]").tolist() for name in (settings.first, settings.second)]
    rows, left_out = [], {}
    for number, *texts in zip(table.index.tolist(), *sides, strict=True):
        if not all(text.strip() for text in texts):
            left_out[number] = "blank: one of the two languages"
            continue
        for source, target in ways:
            cells = {"text": texts[source], "translation": texts[target], "into": names[target]}
            rows.append({**cells, "source_row": str(number)})
    return renumbered(rows, ("text", "translation", "into", "source_row")), left_out
