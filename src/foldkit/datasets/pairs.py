"""What each row teaches, as text: its prompt and its last reply."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass

import pandas as pd

from foldkit.rows.tables import rows_of
from foldkit.templates import Template


@dataclass(frozen=True)
class Pair:
    """A row's prompt, all turns before its last reply, and that reply."""

    prompt: str
    reply: str

    @property
    def text(self) -> str:
        """Both as one text."""
        return f"{self.prompt}\n{self.reply}"


def pairs_of(table: pd.DataFrame, template: Template) -> dict[int, Pair]:
    """Return the pair of every row that the template can use, by row number."""
    pairs = {}
    for row, values in rows_of(table):
        if any(not values[slot].strip() for slot in template.needed_slots(values)):
            continue
        try:
            prompt, reply = template.prompt_turns(values), template.target(values)
        except (ValueError, IndexError):
            continue
        pairs[row] = Pair("\n\n".join(turn.text for turn in prompt), reply)
    return pairs


def texts_of(pairs: Mapping[int, Pair]) -> dict[int, str]:
    """Return prompt and reply of every row as one text."""
    return {row: pair.text for row, pair in pairs.items()}
