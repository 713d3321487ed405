"""One row an answer with a grade: preference rows of answers to one prompt whose grades are far enough apart."""

from __future__ import annotations

import math
from collections import defaultdict
from dataclasses import dataclass

import pandas as pd

from foldkit.formats import InputError
from foldkit.formats.settings import within

from ..tables import column
from .contract import renumbered


@dataclass(frozen=True)
class GradedSettings:
    """The columns of the `prompt`, the `answer` and its `grade`, a number of which more is better.

    The best answer to a prompt is chosen against each whose grade is lower by `gap` or more; the first of equals.
    """

    prompt: str = "prompt"
    answer: str = "answer"
    grade: str = "grade"
    gap: float = 1.0

    def __post_init__(self) -> None:
        within(self.gap, 1e-9, 1e9, "[rows.graded]", "gap")


def best_against_others(table: pd.DataFrame, settings: GradedSettings) -> tuple[pd.DataFrame, dict[int, str]]:
    """Return rows with the prompt, `chosen`, `rejected` and `source_row`, that of the rejected answer.

    Raises InputError for a grade that is no number.
    """
    names = {"prompt": settings.prompt, "answer": settings.answer, "grade": settings.grade}
    cells = [column(table, name, f"[rows.graded] {key}").tolist() for key, name in names.items()]
    given: dict[str, list[tuple[float, str, int]]] = defaultdict(list)
    for number, prompt, answer, grade in zip(table.index.tolist(), *cells, strict=True):
        given[prompt].append((_number(grade, number, settings.grade), answer, number))
    rows: list[dict[str, str]] = []
    left_out: dict[int, str] = {}
    for prompt, answers in given.items():
        best, chosen, at = max(answers, key=lambda one: one[0])
        if best - min(grade for grade, _, _ in answers) < settings.gap:
            left_out[at] = f"no answer to its prompt has a grade {settings.gap:g} below its own, {best:g}"
        for grade, answer, number in answers:
            if best - grade >= settings.gap:
                pair = {"chosen": chosen, "rejected": answer, "source_row": str(number)}
                rows.append({settings.prompt: prompt, **pair})
            elif number != at:
                left_out[number] = f"its grade {grade:g} is not {settings.gap:g} below the best, {best:g}"
    return renumbered(rows, (settings.prompt, "chosen", "rejected", "source_row")), left_out


def _number(cell: str, row: int, name: str) -> float:
    try:
        value = float(cell)
    except ValueError:
        value = math.nan
    if not math.isfinite(value):
        raise InputError(f"row {row}", name, "a number", cell, "grade the answer, or leave its row out")
    return value
