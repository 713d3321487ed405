"""Two conversations that differ in their last reply: preference rows with the messages before it as their prompt."""

from __future__ import annotations

import json
from collections.abc import Mapping
from dataclasses import dataclass, field

import pandas as pd

from foldkit.formats import ROLES, check_roles, read_messages

from ..marks import mark_roles, messages_in
from ..tables import column, rows_of
from .contract import SOURCE_ROW, renumbered


@dataclass(frozen=True)
class ComparedSettings:
    """The columns of the `chosen` and the `rejected` conversation, each a list of messages or its last reply alone.

    `prompt` is a column of what comes before them, a list of messages or a question; it need not be there. `roles`
    names roles of the messages with ours: `{ keeper = "user" }`. Of texts in which marks part what each side says,
    `user`, `assistant` and `system` name those marks, and `ends` what is taken off both ends of each message.
    """

    chosen: str = "chosen"
    rejected: str = "rejected"
    prompt: str = "prompt"
    roles: dict[str, str] = field(default_factory=dict)
    user: tuple[str, ...] = ()
    assistant: tuple[str, ...] = ()
    system: tuple[str, ...] = ()
    ends: tuple[str, ...] = ()

    def __post_init__(self) -> None:
        check_roles(self.roles, "[rows.compared]")
        self.marks()

    def marks(self) -> dict[str, str]:
        """Return the role of each mark."""
        return mark_roles({role: getattr(self, role) for role in ROLES}, "[rows.compared]")


def parted_in_the_last_reply(table: pd.DataFrame, settings: ComparedSettings) -> tuple[pd.DataFrame, dict[int, str]]:
    """Return the rows with `messages`, those before the last reply, none learned; `chosen`, `rejected`, `source_row`.

    A row is left out whose conversations differ before that, or one of which is none.
    """
    for key, name in (("chosen", settings.chosen), ("rejected", settings.rejected)):
        column(table, name, f"[rows.compared] {key}")
    read = (settings.prompt, settings.chosen, settings.rejected)
    others = [name for name in map(str, table) if name not in read]
    rows: list[dict[str, str]] = []
    left_out: dict[int, str] = {}
    for number, cells in rows_of(table):
        try:
            made = _compared(cells, settings)
        except ValueError as error:
            left_out[number] = str(error)
            continue
        rows.append({name: cells[name] for name in others} | made | {SOURCE_ROW: str(number)})
    return renumbered(rows, (*others, "messages", "chosen", "rejected", SOURCE_ROW)), left_out


def _compared(cells: Mapping[str, str], settings: ComparedSettings) -> dict[str, str]:
    asked = _said(cells.get(settings.prompt, ""), settings.prompt, settings)
    if asked is None:
        asked = [("user", cells[settings.prompt])] if cells.get(settings.prompt, "").strip() else []
    names = [name for name in (settings.chosen, settings.rejected) if cells[name].strip()]
    parted = {name: _parted(asked, cells[name], name, settings) for name in names}
    befores = [before for before, _ in parted.values()]
    if not befores:
        raise ValueError(f"{settings.chosen} and {settings.rejected} are blank")
    before = befores[0]
    if before != befores[-1]:
        raise ValueError(f"{settings.chosen} and {settings.rejected} differ before their last reply")
    chosen, rejected = (parted[name][1] if name in parted else "" for name in (settings.chosen, settings.rejected))
    messages = [
        {"role": role, "content": text} | ({"learned": False} if role == "assistant" else {}) for role, text in before
    ]
    return {"messages": json.dumps(messages, ensure_ascii=False), "chosen": chosen, "rejected": rejected}


def _parted(
    asked: list[tuple[str, str]], cell: str, name: str, settings: ComparedSettings
) -> tuple[list[tuple[str, str]], str]:
    """Return what stands before the last reply of a conversation, and that reply."""
    said = _said(cell, name, settings)
    if not said and not asked:
        raise ValueError(f"{name} is no list of messages, and nothing comes before it")
    if not said:
        return asked, cell
    *before, (role, reply) = said
    if role != "assistant":
        raise ValueError(f"{name} does not end in a reply")
    repeated = all(message in before for message in asked)
    return (before if repeated else asked + before), reply


def _said(cell: str, name: str, settings: ComparedSettings) -> list[tuple[str, str]] | None:
    """Return the messages of a cell, a list or a text with marks; None where it is neither."""
    try:
        messages = read_messages(cell, settings.roles)
    except ValueError as error:
        raise ValueError(f"{name}: {error}") from None
    if messages is not None:
        return [(message.role, message.text) for message in messages]
    marks = settings.marks()
    said = messages_in(cell, marks, settings.ends) if marks else []
    return said if any(role != "system" for role, _ in said) else None
