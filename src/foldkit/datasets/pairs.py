"""What each row teaches, as text: its prompt and its last reply."""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from dataclasses import dataclass

import pandas as pd

from foldkit.rows.tables import column, rows_of
from foldkit.templates import Template


@dataclass(frozen=True)
class Pair:
    """A row's prompt, all turns before its last reply, that reply, and the worse one where it has one.

    Where a row has a worse reply alone, that is its reply, and the row is `bad`.
    """

    prompt: str
    reply: str
    rejected: str = ""
    bad: bool = False

    @property
    def text(self) -> str:
        """Both as one text."""
        return f"{self.prompt}\n{self.reply}"


def is_blank(values: Mapping[str, str], slots: Iterable[str]) -> bool:
    """Whether one of these columns is blank in a row."""
    return any(not values[slot].strip() for slot in slots)


def check_slots(table: pd.DataFrame, template: Template) -> None:
    """Raise InputError when the template names a column that the rows do not have."""
    for slot in template.slots() if len(table) else ():
        column(table, slot, f"template {template.name!r}")


def pairs_of(table: pd.DataFrame, template: Template) -> dict[int, Pair]:
    """Return the pair of every row that the template can use, by row number; raises as `check_slots` does."""
    check_slots(table, template)
    pairs = {}
    worse = template.rejected_slots()
    for row, values in rows_of(table):
        has_worse = bool(worse) and not is_blank(values, worse)
        bad = has_worse and is_blank(values, template.reply_slots())
        needed = template.needed_slots(values)
        if is_blank(values, [slot for slot in needed if not bad or slot not in template.reply_slots()]):
            continue
        try:
            prompt, reply = template.parted(values)
        except (ValueError, IndexError):
            continue
        rejected = template.rejected(values) if has_worse else ""
        pairs[row] = Pair(
            "\n\n".join(turn.text for turn in prompt), rejected if bad else reply, "" if bad else rejected, bad
        )
    return pairs


def texts_of(pairs: Mapping[int, Pair]) -> dict[int, str]:
    """Return prompt and reply of every row as one text."""
    return {row: pair.text for row, pair in pairs.items()}
