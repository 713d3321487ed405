"""Texts that hold whole conversations, with a mark before what each side says: a row with their messages."""

from __future__ import annotations

import json
from collections.abc import Iterator
from dataclasses import dataclass

import pandas as pd

from foldkit.formats import ROLES, UsageError

from ..marks import parted
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
        marks = [mark for role in ROLES for mark in getattr(self, role)]
        if "" in (mark.strip() for mark in marks) or len(set(marks)) < len(marks):
            raise UsageError("[rows.marked]", "marks", "each of one role, none blank", marks, "name each once")


def in_turns(table: pd.DataFrame, settings: MarkedSettings) -> tuple[pd.DataFrame, dict[int, str]]:
    """Return the rows with `messages` in place of the text, and `source_row`; one without a reply is left out."""
    column(table, settings.text, "[rows.marked] text")
    others = [name for name in map(str, table) if name not in (settings.text, "messages")]
    rows: list[dict[str, str]] = []
    left_out: dict[int, str] = {}
    for row, cells in rows_of(table):
        messages = list(_messages(cells[settings.text], settings))
        if all(message["role"] != "assistant" for message in messages):
            left_out[row] = f"no reply after any of {', '.join(map(repr, settings.assistant))}"
            continue
        made = {"messages": json.dumps(messages, ensure_ascii=False), SOURCE_ROW: str(row)}
        rows.append({name: cells[name] for name in others} | made)
    return renumbered(rows, (*others, "messages", SOURCE_ROW)), left_out


def _messages(text: str, settings: MarkedSettings) -> Iterator[dict[str, str]]:
    """Yield the messages of a text; what one side says after several marks is one."""
    roles = {mark: role for role in ROLES for mark in getattr(settings, role)}
    said: list[tuple[str, str]] = []
    for role, piece in parted(text, roles):
        if own := _without_ends(piece, settings.ends):
            before = said.pop()[1] + "\n\n" if said and said[-1][0] == role else ""
            said.append((role, before + own))
    yield from ({"role": role, "content": own} for role, own in said)


def _without_ends(text: str, ends: tuple[str, ...]) -> str:
    before = None
    while before != text:
        before, text = text, text.strip()
        for end in ends:
            text = text.removeprefix(end).removesuffix(end)
    return text
