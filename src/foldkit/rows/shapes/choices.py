"""A question with several choices: a row with the choices as lettered lines, and the letter of the right one."""

from __future__ import annotations

import re
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass
from string import ascii_uppercase

import pandas as pd

from foldkit.formats import UsageError
from foldkit.formats.settings import within

from ..paths import opened
from ..tables import column, rows_of
from .contract import SOURCE_ROW, renumbered

# A choice that has its letter already.
_LETTERED = re.compile(r"[A-Z][.):] ")
# An answer and the choices it is one of, to the place of that one, None where it is none.
_Told = Callable[[str, Sequence[str]], int | None]


@dataclass(frozen=True)
class ChoicesSettings:
    """The columns of the `choices`, one that holds a list or lines of text or several with a choice each.

    `answer` is the column of the right one: its text, its letter, or its place, counted from `first`.
    """

    choices: tuple[str, ...] = ("choices",)
    answer: str = "answer"
    first: int = 0

    def __post_init__(self) -> None:
        within(self.first, 0, 1, "[rows.choices]", "first")
        if not self.choices:
            raise UsageError("[rows.choices]", "choices", "one column at least", [], 'for example ["choices"]')


def lettered(table: pd.DataFrame, settings: ChoicesSettings) -> tuple[pd.DataFrame, dict[int, str]]:
    """Return the rows with `choices` as lettered lines, `answer` as a letter, `answer_text` and `source_row`.

    Whether answers are texts, letters or places is what most of the rows say. A row is left out that has fewer than two
    choices, more than there are letters, or an answer that is none of them.
    """
    for name in (*settings.choices, settings.answer):
        column(table, name, "[rows.choices]")
    read = {*settings.choices, settings.answer}
    others = [name for name in map(str, table) if name not in (*read, "choices", "answer", "answer_text")]
    cells = {row: (own, given_choices([own[name] for name in settings.choices])) for row, own in rows_of(table)}
    place_of = _told_by({row: (own[settings.answer].strip(), given) for row, (own, given) in cells.items()}, settings)
    rows: list[dict[str, str]] = []
    left_out: dict[int, str] = {}
    for row, (own, given) in cells.items():
        place = place_of(own[settings.answer].strip(), given)
        if not 2 <= len(given) <= len(ascii_uppercase):
            left_out[row] = f"{len(given)} choices: from 2 to {len(ascii_uppercase)} can be told apart"
        elif place is None:
            left_out[row] = f"{settings.answer} {own[settings.answer]!r} is none of its {len(given)} choices"
        else:
            made = {"choices": _lines(given), "answer": ascii_uppercase[place], "answer_text": given[place]}
            rows.append({name: own[name] for name in others} | made | {SOURCE_ROW: str(row)})
    return renumbered(rows, (*others, "choices", "answer", "answer_text", SOURCE_ROW)), left_out


def choice_lines(cells: Sequence[str]) -> str:
    """Return the choices that cells hold as lettered lines."""
    return _lines(given_choices(cells))


def given_choices(cells: Sequence[str]) -> list[str]:
    """Return the choices that cells hold: one each, blanks at the end left out; or those of one list, or of lines."""
    if len(cells) > 1:
        n_given = max((place for place, cell in enumerate(cells, 1) if cell.strip()), default=0)
        return [cell.strip() for cell in cells[:n_given]]
    values = opened(cells[0])
    return [str(value).strip() for value in values] if isinstance(values, list) else cells[0].split("\n")


def _lines(given: Sequence[str]) -> str:
    """Return choices as lines, a letter before each where they have none already."""
    if all(map(_LETTERED.match, given)):
        return "\n".join(given)
    return "\n".join(map("{}. {}".format, ascii_uppercase, given))


def _told_by(answers: Mapping[int, tuple[str, Sequence[str]]], settings: ChoicesSettings) -> _Told:
    """Return how an answer says which choice is right, as most of them do: by its text, its letter or its place."""

    def by_place(answer: str, given: Sequence[str]) -> int | None:
        number = answer.removesuffix(".0")
        return _within(int(number) - settings.first if number.isdecimal() else -1, given)

    def n_told(told: _Told) -> int:
        return sum(told(*own) is not None for own in answers.values())

    return max((_by_text, _by_letter, by_place), key=n_told)


def _by_text(answer: str, given: Sequence[str]) -> int | None:
    return given.index(answer) if given.count(answer) == 1 else None


def _by_letter(answer: str, given: Sequence[str]) -> int | None:
    letter = answer.strip(" ().:").upper()
    return _within(ascii_uppercase.find(letter) if len(letter) == 1 else -1, given)


def _within(place: int, given: Sequence[str]) -> int | None:
    return place if 0 <= place < len(given) else None
