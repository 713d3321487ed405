"""Leaks: rows outside train that stand in train too."""

from __future__ import annotations

from collections import Counter
from collections.abc import Mapping
from dataclasses import dataclass

import pandas as pd

from foldkit.rows.near import NO_ROW, NearTexts, plain

from .pairs import Pair

# What a leak is, the worst first.
_SAID = {
    "text": "has the texts of",
    "prompt": "has the prompt of",
    "rejected reply": "has the rejected reply of",
    "near copy": "is a near copy of",
}
# A shorter rejected reply may well come twice, and so may one that comes several times in train.
_LONG = 24


@dataclass(frozen=True)
class Leak:
    """A row of validation or test that stands in train too: its text, prompt or rejected reply, or a near copy."""

    row: int
    part: str
    train_row: int
    what: str

    def __str__(self) -> str:
        return f"row {self.row} in {self.part} {_SAID[self.what]} row {self.train_row} in train"


def find_leaks(pairs: Mapping[int, Pair], parts: pd.Series, near: NearTexts) -> list[Leak]:
    """Return the rows outside train that stand in train too, each once, the worst first.

    Letter case and blanks do not count; `near` are the texts of the rows.
    """
    in_train = {row: pair for row, pair in pairs.items() if parts[row] == "train"}
    whole = {plain(pair.text): row for row, pair in reversed(in_train.items())}
    prompts = {plain(pair.prompt): row for row, pair in reversed(in_train.items()) if pair.prompt.strip()}
    times = Counter(map(_worse, in_train.values()))
    worse = {text: row for row, pair in in_train.items() for text in [_worse(pair)] if text and times[text] == 1}
    copies = near.first_near(parts.loc[near.rows].to_numpy() == "train")
    copy_of = {row: of for row, of in zip(near.rows.tolist(), copies.tolist(), strict=True) if of != NO_ROW}
    leaks = []
    for row, pair in pairs.items():
        places = (
            whole.get(plain(pair.text)),
            prompts.get(plain(pair.prompt)),
            worse.get(_worse(pair)),
            copy_of.get(row),
        )
        for what, train_row in zip(_SAID, places, strict=True):
            if row not in in_train and train_row is not None:
                leaks.append(Leak(row, str(parts[row]), train_row, what))
                break
    return sorted(leaks, key=lambda leak: list(_SAID).index(leak.what))


def _worse(pair: Pair) -> str:
    """Return the rejected reply of a row as it is compared, "" for none that is long enough."""
    text = plain(pair.reply if pair.bad else pair.rejected)
    return text if len(text) >= _LONG else ""
