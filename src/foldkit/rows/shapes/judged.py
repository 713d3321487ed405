"""One row a reply with a verdict: preference rows that have a good reply alone, or a bad one alone."""

from __future__ import annotations

from dataclasses import dataclass

import pandas as pd

from ..tables import column, rows_of
from .contract import SOURCE_ROW, renumbered


@dataclass(frozen=True)
class JudgedSettings:
    """The columns of the `reply` and its `verdict`, and which verdicts are `good` and `bad`, in any letter case."""

    reply: str = "reply"
    verdict: str = "verdict"
    good: tuple[str, ...] = ("good", "yes", "true", "1", "up")
    bad: tuple[str, ...] = ("bad", "no", "false", "0", "down")


def good_or_bad(table: pd.DataFrame, settings: JudgedSettings) -> tuple[pd.DataFrame, dict[int, str]]:
    """Return the rows with `chosen` or `rejected` in place of the reply, the other one blank, and `source_row`."""
    for key, name in (("reply", settings.reply), ("verdict", settings.verdict)):
        column(table, name, f"[rows.judged] {key}")
    good, bad = ({word.casefold() for word in words} for words in (settings.good, settings.bad))
    others = [name for name in map(str, table) if name not in (settings.reply, settings.verdict)]
    rows: list[dict[str, str]] = []
    left_out: dict[int, str] = {}
    for number, cells in rows_of(table):
        verdict, reply = cells[settings.verdict].strip().casefold(), cells[settings.reply]
        if verdict not in good | bad:
            left_out[number] = f"its verdict {cells[settings.verdict]!r} is none of {', '.join(sorted(good | bad))}"
            continue
        sides = {"chosen": reply, "rejected": ""} if verdict in good else {"chosen": "", "rejected": reply}
        rows.append({name: cells[name] for name in others} | sides | {SOURCE_ROW: str(number)})
    return renumbered(rows, (*others, "chosen", "rejected", SOURCE_ROW)), left_out
