"""Answers with grades, one a row or all of a prompt in a row: preference rows of those that are far enough apart."""

from __future__ import annotations

import dataclasses
import math
import re
from collections import Counter
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from typing import Any, NamedTuple

import pandas as pd

from foldkit.formats import one_of
from foldkit.formats.settings import within

from ..cells import cell_text
from ..paths import opened, value_at
from ..tables import column, rows_of, spread
from .contract import SOURCE_ROW, renumbered

BEST = ("highest", "lowest")
# What answers and their grades are usually called in lists of them, and what tells that the lowest grade is the best.
_ANSWERS = ("answer", "response", "reply", "completion", "output", "text", "content")
_GRADES = ("grade", "score", "rating", "rank", "overall_score", "overall_rating", "reward")
_SEEN = 2000
_LOW_IS_BEST = re.compile("rank|place", re.IGNORECASE)


@dataclass(frozen=True)
class GradedSettings:
    """The columns of the `prompt`, the `answer` and its `grade`, a number of which the `best` is "highest" or "lowest".

    Where both cells are lists, they are of all answers to that prompt, in the same order. Or `answers` is a column of
    lists of objects, and `answer` and `grade` are keys in these, or paths. The best answer to a prompt is chosen
    against each whose grade is worse by `gap` or more; the first of equals.
    """

    prompt: str = "prompt"
    answer: str = "answer"
    grade: str = "grade"
    answers: str = ""
    best: str = "highest"
    gap: float = 1.0

    def __post_init__(self) -> None:
        one_of(self.best, BEST, "[rows.graded]", "best")
        within(self.gap, 1e-9, 1e9, "[rows.graded]", "gap")

    def read(self) -> dict[str, str]:
        """Return the columns that are read, by the settings that name them."""
        keys = ("prompt", "answers") if self.answers else ("prompt", "answer", "grade")
        return {key: getattr(self, key) for key in keys}


class _Graded(NamedTuple):
    """An answer with its grade, NaN for none, and its row."""

    text: str
    grade: float
    row: int


class _Given(NamedTuple):
    """The cells of the rows in which answers to a prompt stand, and these."""

    rows: list[Mapping[str, str]]
    answers: list[_Graded]


def best_against_others(table: pd.DataFrame, settings: GradedSettings) -> tuple[pd.DataFrame, dict[int, str]]:
    """Return rows with the prompt, `chosen`, `rejected` and `source_row`, that of the rejected answer.

    Columns in which all answers to a prompt have the same stay. An answer whose grade is no number is in no pair.
    """
    read = settings.read()
    for key, name in read.items():
        column(table, name, f"[rows.graded] {key}")
    given = _answered(table, settings)
    others = [name for name in map(str, table) if name not in (*read.values(), "chosen", "rejected")]
    kept = (settings.prompt, *(name for name in others if all(_alike(one.rows, name) for one in given)))
    rows: list[dict[str, str]] = []
    left_out: dict[int, str] = {}
    for one in given:
        pairs, alone = _pairs(one.answers, settings)
        rows += [{name: one.rows[0][name] for name in kept} | pair for pair in pairs]
        left_out |= alone
    return renumbered(rows, (*kept, "chosen", "rejected", SOURCE_ROW)), left_out


def _alike(rows: Sequence[Mapping[str, str]], name: str) -> bool:
    return all(cells[name] == rows[0][name] for cells in rows)


def _answered(table: pd.DataFrame, settings: GradedSettings) -> Sequence[_Given]:
    """Return the answers to each prompt; those of a list are by themselves, for grades may be places in it."""
    found: dict[str | int, _Given] = {}
    for row, cells in rows_of(table):
        listed = _listed(cells, settings)
        pairs = [(cells[settings.answer], cells[settings.grade])] if listed is None else listed
        given = found.setdefault(cells[settings.prompt] if listed is None else row, _Given([], []))
        given.rows.append(cells)
        strip = listed is not None  # else it has been done where it is wanted
        graded = [_Graded(cell_text(text, strip=strip), _number(grade), row) for text, grade in pairs]
        given.answers.extend(graded or [_Graded("", math.nan, row)])
    return list(found.values())


def _listed(cells: Mapping[str, str], settings: GradedSettings) -> list[tuple[Any, Any]] | None:
    """Return the answers and grades that a row lists, None where it has one of each."""
    if settings.answers:
        items = opened(cells[settings.answers])
        text, grade = settings.answer.split("."), settings.grade.split(".")
        return [(value_at(item, text), value_at(item, grade)) for item in items] if isinstance(items, list) else []
    texts, grades = opened(cells[settings.answer]), opened(cells[settings.grade])
    if not (isinstance(texts, list) and isinstance(grades, list)):
        return None
    return list(zip(texts, grades, strict=True)) if len(texts) == len(grades) else []


def _pairs(answers: Sequence[_Graded], settings: GradedSettings) -> tuple[list[dict[str, str]], dict[int, str]]:
    """Return the best answer with each that is worse enough, and rows that are in no pair, with the reason."""
    sign = 1 if settings.best == "highest" else -1
    graded = [one for one in answers if math.isfinite(one.grade)]
    reasons = dict.fromkeys((one.row for one in answers), "no answer with a grade that is a number")
    if not graded:
        return [], reasons
    best = max(graded, key=lambda one: sign * one.grade)
    gap = settings.gap * (1 - 1e-9)  # 0.3 is 0.1 more than 0.2, but for the rounding of the three
    worse = [one for one in graded if sign * (best.grade - one.grade) >= gap]
    for one in graded:
        reasons[one.row] = f"its grade {one.grade:g} is not {settings.gap:g} worse than the best, {best.grade:g}"
    reasons[best.row] = f"no answer to its prompt has a grade {settings.gap:g} worse than its own, {best.grade:g}"
    paired = {one.row for one in (*worse, *([best] if worse else []))}
    pairs = [{"chosen": best.text, "rejected": one.text, SOURCE_ROW: str(one.row)} for one in worse]
    return pairs, {row: reason for row, reason in reasons.items() if row not in paired}


def _number(grade: Any) -> float:
    try:
        return float(grade)
    except (TypeError, ValueError):
        return math.nan


def told_grades(table: pd.DataFrame, answers: str, grades: str) -> GradedSettings | None:
    """Return how lists of answers are graded, by a column of lists or by what stands beside each answer.

    `grades` is that column, "" for none. None where most rows have no two answers with grades.
    """
    table = spread(table, _SEEN)
    answer, grade = (answers, grades) if grades else (_key(table[answers], key) for key in (_ANSWERS, _GRADES))
    settings = GradedSettings(answer=answer, grade=grade, answers="" if grades else answers)
    rows = [_listed(cells, settings) or [] for _, cells in rows_of(table)]
    numbers = [[number for _, own in pairs if math.isfinite(number := _number(own))] for pairs in rows]
    if 2 * sum(len(own) > 1 for own in numbers) <= len(rows):
        return None
    every = [number for own in numbers for number in own]
    apart = 1.0 if all(number.is_integer() for number in every) else float(f"{(max(every) - min(every)) / 10:.1g}")
    best = "lowest" if _LOW_IS_BEST.search(grade) else "highest"
    return dataclasses.replace(settings, best=best, gap=apart)


def _key(cells: pd.Series[Any], names: Sequence[str]) -> str:
    """Return the first of the usual names that the first object of a list of most cells has, "" for none."""
    firsts = [items[0] for cell in cells if isinstance(items := opened(cell), list) and items]
    keys = Counter(key for first in firsts if isinstance(first, dict) for key in first)
    return next((key for name in names for key, n in keys.items() if key.lower() == name and 2 * n > len(cells)), "")
