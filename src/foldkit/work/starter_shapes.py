"""The section of a starter sheet that makes examples of rows which are none yet, and what it assumes."""

from __future__ import annotations

from collections.abc import Callable, Iterable
from typing import Any

import pandas as pd

from foldkit.formats import InputError, listed, named_roles, unread_keys
from foldkit.rows import SHAPES, Kind, are_talks, usual_marks
from foldkit.rows.shapes import ChoicesSettings, TickedSettings, told_grades, told_sides
from foldkit.rows.tables import spread, times
from foldkit.rows.thoughts import THOUGHT_NAMES

from .starter_sheet import inline, quoted

_GAPS, _ENOUGH_TALKS = (1800, 600, 300, 120, 60), 20
_REPLYING = ("assistant", "bot", "agent")
# Slots that may be lists of messages.
_OF_MESSAGES = {
    "conversation": ("messages",),
    "continued": ("messages", "replies"),
    "compared": ("prompt", "chosen", "rejected"),
    "picked": ("prompt", "first", "second"),
    "graded": ("prompt",),
}
# So many rows are looked at closely, from all over the file.
LOOKED_AT = 2000


def shape_section(kind: Kind, table: pd.DataFrame, roles: dict[str, str]) -> tuple[str, list[str]]:
    """Return the section of a kind of rows, empty where they are examples as they are, and what it assumes.

    `roles` are names of roles in lists of messages, with ours.
    """
    shape = _SHAPES.get(kind.name)
    return shape(kind, table, roles) if shape else ("", [])


def _columns(kind: Kind) -> str:
    return "".join(f"{slot} = {quoted(name)}\n" for slot, name in kind.columns.items())


def _grouped(kind: Kind, table: pd.DataFrame, roles: dict[str, str]) -> tuple[str, list[str]]:
    return f"\n[rows.grouped]              # a row for each text of a label\n{_columns(kind)}", []


def _marked(kind: Kind, table: pd.DataFrame, roles: dict[str, str]) -> tuple[str, list[str]]:
    marks, said = _marks(table[kind.columns["text"]])
    return f"\n[rows.marked]               # a turn after each mark of who speaks\n{_columns(kind)}{marks}", said


def unlearned_thoughts(names: Iterable[str]) -> list[str]:
    """Say of columns, or keys of messages, that are not used and may hold thoughts how these can be learned."""
    what = "is not learned, though it may lead to the reply: [[turn.before]] in the template puts it before"
    return [f"{name!r} {what}" for name in names if name.lower() in THOUGHT_NAMES]


def found_roles(kind: Kind, table: pd.DataFrame) -> tuple[dict[str, str], list[str]]:
    """Return roles in lists of messages whose names say nothing, with ours, and what that assumes, and leaves unread.

    Where no message is known for a reply they are those of whom a transcript would take for the one who replies.
    """
    slots = _OF_MESSAGES.get(kind.name, ())
    seen = spread(table, LOOKED_AT)
    cells = [cell for slot in slots if slot in kind.columns for cell in seen[kind.columns[slot]]]
    said = [one for cell in cells for one in named_roles(cell)]
    keys = dict.fromkeys(key for cell in cells for key in unread_keys(cell))
    left = [f"of the messages not used: {listed(list(keys))}"] if keys else []
    left += unlearned_thoughts(keys)
    unknown = list(dict.fromkeys(name for name, role in said if not role))
    if not unknown:
        return {}, left
    replying = ""
    if all(role != "assistant" for _, role in said):
        replying, _ = _main_speaker(pd.Series([name for name, role in said if not role]))
    roles = {name: "assistant" if name == replying else "user" for name in unknown}
    told = ", ".join(f"{name!r} is the {role}" for name, role in roles.items())
    return roles, [f"of the roles in the messages {told}", *left]


def _choices(kind: Kind, table: pd.DataFrame, roles: dict[str, str]) -> tuple[str, list[str]]:
    columns = [name for slot, name in kind.columns.items() if slot.startswith("choice")]
    counted = [ChoicesSettings(tuple(columns), kind.columns["answer"], first) for first in (0, 1)]
    settings = min(counted, key=lambda one: len(SHAPES["choices"](table, one)[1]))
    section = (
        "\n[rows.choices]              # a line for each choice, a letter before it\n"
        f"choices = [{', '.join(map(quoted, columns))}]\n"
        f"answer = {quoted(settings.answer)}\n"
        f"first = {settings.first:<19} # the place of the first choice, where answers are places\n"
    )
    return section, ["what is learned is the letter of the right choice"]


def _ticked(kind: Kind, table: pd.DataFrame, roles: dict[str, str]) -> tuple[str, list[str]]:
    labels = [name for slot, name in kind.columns.items() if slot != "text"]
    settings = TickedSettings(tuple(labels))
    head = "\n[rows.ticked]               # the names of columns that say yes are the label\n"
    section = f"{head}columns = [{', '.join(map(quoted, labels))}]\n"
    said = f"a row's label is the names of its columns that say yes, {settings.between!r} between them"
    return section, [f"{said}, or {settings.none!r}"]


def _graded(kind: Kind, table: pd.DataFrame, roles: dict[str, str]) -> tuple[str, list[str]]:
    found = told_grades(table, kind.columns["answers"], kind.columns.get("grades", ""))
    assert found is not None  # else it were another kind
    told = {"answers": found.answers, "answer": found.answer, "grade": found.grade, "best": found.best}
    lines = "".join(f"{name} = {quoted(value)}\n" for name, value in told.items() if value)
    head = "\n[rows.graded]               # the best answer is chosen against each that is worse\n"
    gap = f"gap = {found.gap:<21g} # how much worse\n"
    said = f"of the answers to a prompt the one of the {found.best} {found.grade!r} is the best"
    then, more = _compared(kind, table, roles) if are_talks(table[kind.columns["prompt"]].tolist()) else ("", [])
    return f"{head}{lines}{gap}{then}", [f"{said}, and held against each that is {found.gap:g} worse", *more]


def _picked(kind: Kind, table: pd.DataFrame, roles: dict[str, str]) -> tuple[str, list[str]]:
    read = "".join(f"{slot} = {quoted(kind.columns[slot])}\n" for slot in ("first", "second", "winner"))
    winner = kind.columns["winner"]
    wins = told_sides(table[winner].tolist())
    words = "".join(f"{side}_wins = [{', '.join(map(quoted, own))}]\n" for side, own in wins.items())
    head = "\n[rows.picked]               # the better of two replies is chosen\n"
    first, second = (" or ".join(map(repr, own)) for own in wins.values())
    said = f"the first is better where {winner!r} is {first}, the second where it is {second}; other rows are no pairs"
    then, more = _compared(kind, table, roles) if are_talks(table[kind.columns["first"]].tolist()) else ("", [])
    return f"{head}{read}{words}{then}", [said, *more]


def _compared(kind: Kind, table: pd.DataFrame, roles: dict[str, str]) -> tuple[str, list[str]]:
    columns = _columns(kind) if kind.name == "compared" else ""  # else they are what another shape has made
    named = f"roles = {inline(roles)}\n" if roles else ""
    cells = (table[kind.columns[slot]] for slot in ("prompt", "chosen", "first") if slot in kind.columns)
    marks, said = next((found for found in map(_marks, cells) if found[0]), ("", []))
    head = "\n[rows.compared]             # conversations that differ in their last reply\n"
    return f"{head}{columns}{named}{marks}", said


def _marks(cells: pd.Series[Any]) -> tuple[str, list[str]]:
    """Return the settings that name the marks in texts, and what they assume; none where texts have no such marks."""
    marks, ends = usual_marks(cells.tolist())
    own = marks | ({"ends": ends} if ends else {})
    lists = "".join(f"{name} = [{', '.join(map(quoted, values))}]\n" for name, values in own.items())
    said = "; ".join(f"{role} after {', '.join(map(repr, own))}" for role, own in marks.items())
    return lists, [f"texts hold turns of {said}; the marks themselves are not learned"] if marks else []


def _transcript(kind: Kind, table: pd.DataFrame, roles: dict[str, str]) -> tuple[str, list[str]]:
    learned, why = _main_speaker(table[kind.columns["speaker"]].str.strip())
    said, gap = [f"the replies to learn are those of {learned!r}, {why}"], ""
    try:
        seconds = _gap(times(table[kind.columns["time"]])) if "time" in kind.columns else 0
    except InputError as error:
        kind, seconds = Kind(kind.name, {slot: name for slot, name in kind.columns.items() if slot != "time"}), 0
        said.append(f"times are not read, and no silence ends a talk: {error}")
    if seconds:
        gap = f"gap = {seconds:<21} # seconds of silence after which a new talk begins\n"
        said.append(f"a silence of {seconds // 60} minutes ends a talk")
    rest = (
        '# fillers = ["uh", "um"]    # words that are left out\n'
        "earlier = 6                 # turns before a reply that stay as its context\n"
    )
    return f"\n[rows.transcript]\nlearned = [{quoted(learned)}]\n{_columns(kind)}{gap}{rest}", said


def _gap(at: pd.Series[float]) -> int:
    """Return a silence in seconds that ends a talk: one that leaves enough talks, and not as many as there are turns.

    The longest of those that do, else the longest of all, or 0 where everyone takes as long to answer.
    """
    silences = at.diff()
    n_longer = {gap: int((silences > gap).sum()) for gap in _GAPS}
    parting = (gap for gap, n in n_longer.items() if _ENOUGH_TALKS <= n < len(at) / 2)
    return next(parting, _GAPS[0] if n_longer[_GAPS[0]] < len(at) / 2 else 0)


def _main_speaker(speakers: pd.Series[Any]) -> tuple[str, str]:
    """Return whose words are replies, and why: by a usual name, else who speaks most.

    Of two who speak as often it is who came in later, as an answer comes after its question.
    """
    n_said, order = speakers.value_counts(), speakers.drop_duplicates().tolist()
    if usual := [name for name in order if name.lower() in _REPLYING]:
        return str(usual[0]), "by the name"
    return str(max(order, key=lambda name: (n_said[name], order.index(name)))), "who speaks most"


_Section = Callable[[Kind, pd.DataFrame, dict[str, str]], tuple[str, list[str]]]
_SHAPES: dict[str, _Section] = {
    "grouped": _grouped,
    "compared": _compared,
    "choices": _choices,
    "ticked": _ticked,
    "picked": _picked,
    "graded": _graded,
    "marked": _marked,
    "transcript": _transcript,
}
