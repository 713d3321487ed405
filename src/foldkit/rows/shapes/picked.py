"""Two replies to a prompt and which of them is the better one: preference rows."""

from __future__ import annotations

import re
from collections.abc import Sequence
from dataclasses import dataclass

import pandas as pd

from foldkit.formats import UsageError

from ..tables import column, rows_of
from .contract import SOURCE_ROW, renumbered

_SIDES = dict.fromkeys(("a", "1", "first", "left"), "first") | dict.fromkeys(("b", "2", "second", "right"), "second")


@dataclass(frozen=True)
class PickedSettings:
    """The columns of the `first` and the `second` reply, and of the `winner`.

    `first_wins` and `second_wins` are what the winner says for each, in any letter case; with anything else, as a tie,
    there is no pair.
    """

    first: str = "response_a"
    second: str = "response_b"
    winner: str = "winner"
    first_wins: tuple[str, ...] = ("a", "first", "1")
    second_wins: tuple[str, ...] = ("b", "second", "2")

    def __post_init__(self) -> None:
        for key in ("first_wins", "second_wins"):
            if not getattr(self, key):
                raise UsageError("[rows.picked]", key, "one word at least", [], 'for example ["a"]')
        if both := _words(self.first_wins) & _words(self.second_wins):
            raise UsageError("[rows.picked]", "second_wins", "words of its own", sorted(both), "name each once")


def better_and_worse(table: pd.DataFrame, settings: PickedSettings) -> tuple[pd.DataFrame, dict[int, str]]:
    """Return the rows with `chosen` and `rejected` in place of both replies and the winner, and `source_row`."""
    read = {"first": settings.first, "second": settings.second, "winner": settings.winner}
    for key, name in read.items():
        column(table, name, f"[rows.picked] {key}")
    others = [name for name in map(str, table) if name not in (*read.values(), "chosen", "rejected")]
    first, second = _words(settings.first_wins), _words(settings.second_wins)
    rows: list[dict[str, str]] = []
    left_out: dict[int, str] = {}
    for number, cells in rows_of(table):
        said = cells[settings.winner].strip().casefold()
        if said not in first | second:
            left_out[number] = f"its winner {cells[settings.winner]!r} is none of {', '.join(sorted(first | second))}"
            continue
        better, worse = settings.first, settings.second
        if said in second:
            better, worse = worse, better
        pair = {"chosen": cells[better], "rejected": cells[worse]}
        rows.append({name: cells[name] for name in others} | pair | {SOURCE_ROW: str(number)})
    return renumbered(rows, (*others, "chosen", "rejected", SOURCE_ROW)), left_out


def told_sides(winners: Sequence[str]) -> dict[str, list[str]]:
    """Return the words of winners that tell the first and the second by their last part, as `model_a` or `2`.

    Where there are 0 and 1 alone, 0 is the first.
    """
    values = sorted({winner.strip().casefold() for winner in winners})
    sides = {"0": "first", "1": "second"} if set(values) <= {"0", "1", ""} else _SIDES
    found: dict[str, list[str]] = {"first": [], "second": []}
    for value in values:
        if side := sides.get(re.split(r"[\W_]+", value)[-1]):
            found[side].append(value)
    return found


def _words(words: tuple[str, ...]) -> set[str]:
    return {word.strip().casefold() for word in words}
