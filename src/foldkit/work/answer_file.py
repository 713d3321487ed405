"""Answering a file of questions: a line for each, signed with what answered, and gone on with where it was stopped."""

from __future__ import annotations

import dataclasses
import json
from collections.abc import Iterator, Mapping, Sequence
from pathlib import Path
from typing import Any

import pandas as pd

from foldkit.answering import AnswerSettings
from foldkit.formats import (
    InputError,
    append_jsonl,
    fingerprint_files,
    fingerprint_value,
    listed,
    read_json,
    read_jsonl,
    write_aside,
    write_jsonl,
)
from foldkit.models.threads import giving_way
from foldkit.rows.tables import rows_of

from .asking import Asked


def read_questions(asked: Asked, source: str | Path, slots: Mapping[str, str] | None = None) -> pd.DataFrame:
    """Read a file of questions as the rows of the training were read; columns that are no slots stay with their row.

    `slots` has texts for those that a row leaves blank. Raises InputError for a file that cannot be read, and for a
    column that has the name of a contender; UsageError for a slot that the template has not.
    """
    table = asked.reading.read(str(source), asked.slots)
    if taken := [name for name in asked.contenders if name in table.columns]:
        raise InputError(source, "column", "names other than where answers are written", taken[0], "rename it")
    for name, text in asked.row("", slots or {}).items():
        table[name] = table[name].mask(table[name].str.strip() == "", text) if name in table.columns else text
    return table


def answer_rows(
    asked: Asked,
    questions: pd.DataFrame,
    out: Path,
    settings: AnswerSettings,
    contenders: Sequence[str],
    *,
    n_answers: int = 1,
    options: Sequence[str] = (),
    batch: int = 16,
) -> Iterator[tuple[int, int]]:
    """Answer every row, appending each with each contender's answer to the JSON lines of `out`; yield done, total.

    With several answers to a row those are lists; with `options` the answer is the likeliest of these. Rows that `out`
    has already are passed over, so that a run that was stopped goes on. Raises InputError when what stands in `out` is
    of other rows, and before the first answer for rows that cannot be asked. Beside `out` stands what answers; with
    other contenders or other settings it is not gone on with.
    """
    rows = [row for _, row in rows_of(questions)]
    cells = [{name: row[name] for name in asked.slots if name in row} for row in rows]
    n_done = _count_answered(out, rows)
    _check(asked, dict(zip(questions.index[n_done:], cells[n_done:], strict=True)), settings)
    signed = _signature(asked, contenders, {"n_answers": n_answers, "options": options, **dataclasses.asdict(settings)})
    _sign(out, n_done, signed)

    def answers(start: int, *, adapted: bool) -> Sequence[str | list[str]]:
        own = cells[start : start + batch]
        if options:
            return asked.choices(own, options, adapted=adapted)
        found = asked.several(own, settings, n_answers, start, adapted=adapted)
        return found if n_answers > 1 else [all_[0] for all_ in found]

    with giving_way():
        for start in range(n_done, len(rows), batch):
            piece = rows[start : start + batch]
            found = {name: answers(start, adapted=name == "adapter") for name in contenders}
            for index, row in enumerate(piece):
                append_jsonl(out, row | {name: said[index] for name, said in found.items()})
            yield start + len(piece), len(rows)


def _check(asked: Asked, cells: Mapping[int, Mapping[str, str]], settings: AnswerSettings) -> None:
    """Raise InputError where rows cannot be asked, with what is wrong in the first, and the numbers of all."""
    wrong: dict[int, InputError] = {}
    for row, own in cells.items():
        try:
            asked.answerer.check(own, settings, f"questions, row {row}")
        except InputError as error:
            wrong[row] = error
    if wrong:
        (_, first), *others = wrong.items()
        where = f"{first.where} (and {listed([row for row, _ in others])})" if others else first.where
        raise InputError(where, first.what, first.allowed, first.arrived, "mend it in the file, or take it out")


def _count_answered(out: Path, rows: Sequence[Mapping[str, str]]) -> int:
    """Return how many rows `out` has answers to, half a line at its end taken away."""
    if not out.exists():
        return 0
    done = read_jsonl(out, tolerate_half_line=True)
    for number, before in enumerate(done, 1):
        row = rows[number - 1] if number <= len(rows) else None
        if row is None or any(before.get(name) != value for name, value in row.items()):
            raise InputError(f"{out}, line {number}", "row", "the row of the questions", before, "choose another --out")
    write_jsonl(out, done)
    return len(done)


def _signature(asked: Asked, contenders: Sequence[str], settings: Mapping[str, Any]) -> dict[str, Any]:
    """Return what answers are made with: base, adapters with their weights, prompt, and how an answer is found."""
    template, markup = asked.answerer.template, asked.answerer.encoder.markup
    adapters = [{"file": fingerprint_files([path]), "weight": weight} for path, weight in asked.adapters.items()]
    prompt = [template.as_mapping(), markup.as_mapping()]
    return {
        "base": {"model": asked.base.path.name, "file": asked.base.fingerprint, "held": list(asked.held)},
        "adapters": adapters,
        "prompt": {"template": template.name, "of": fingerprint_value(prompt)},
        "contenders": contenders,
        "settings": settings,
    }


def _sign(out: Path, n_done: int, signature: Mapping[str, Any]) -> None:
    """Write what answers beside `out`; raises InputError where `out` has answers of another, and says what differs."""
    path = out.with_name(f"{out.name}.signed.json")
    text = json.dumps(signature, ensure_ascii=False, indent=2) + "\n"
    if n_done:
        todo = "choose another --out, or remove the file"
        before = read_json(path, todo)
        others = [name for name, value in json.loads(text).items() if before.get(name) != value]
        if others:
            raise InputError(out, "answers", f"those of the same {' and '.join(others)}", "others", todo)
    write_aside(path, text)
