"""Texts that hold whole conversations, with a mark before what each side says: a row with their messages."""

from __future__ import annotations

import json
from dataclasses import dataclass

import pandas as pd

from foldkit.formats import ROLES, UsageError

from ..marks import mark_roles, messages_in
from ..tables import column, rows_of
from .contract import SOURCE_ROW, renumbered


@dataclass(frozen=True)
class MarkedSettings:
    """The column of the `text`, the marks before what `user`, `assistant` and `system` say, and `ends`.

    A mark stands at the head of a line; one that begins with <, [ or ### anywhere. What stands before the first mark is
    of the system. `ends` are taken off both ends of each turn.
    """

    text: str = "text"
    user: tuple[str, ...] = ("User:",)
    assistant: tuple[str, ...] = ("Assistant:",)
    system: tuple[str, ...] = ()
    ends: tuple[str, ...] = ()

    def __post_init__(self) -> None:
        for role in ("user", "assistant"):
            if not getattr(self, role):
                raise UsageError("[rows.marked]", role, "one mark at least", [], 'for example ["User:"]')
        self.roles()

    def roles(self) -> dict[str, str]:
        """Return the role of each mark."""
        return mark_roles({role: getattr(self, role) for role in ROLES}, "[rows.marked]")


def in_turns(table: pd.DataFrame, settings: MarkedSettings) -> tuple[pd.DataFrame, dict[int, str]]:
    """Return the rows with `messages` in place of the text, and `source_row`; one without a reply is left out."""
    column(table, settings.text, "[rows.marked] text")
    others = [name for name in map(str, table) if name not in (settings.text, "messages")]
    roles = settings.roles()
    rows: list[dict[str, str]] = []
    left_out: dict[int, str] = {}
    for row, cells in rows_of(table):
        said = messages_in(cells[settings.text], roles, settings.ends)
        if all(role != "assistant" for role, _ in said):
            left_out[row] = f"no reply after any of {', '.join(map(repr, settings.assistant))}"
            continue
        messages = json.dumps([{"role": role, "content": text} for role, text in said], ensure_ascii=False)
        rows.append({name: cells[name] for name in others} | {"messages": messages, SOURCE_ROW: str(row)})
    return renumbered(rows, (*others, "messages", SOURCE_ROW)), left_out
