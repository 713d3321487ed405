"""The rows of test that are scored, and what is told of them besides what contenders give."""

from __future__ import annotations

from collections.abc import Callable, Sequence

from foldkit.answering import key_of
from foldkit.datasets import Dataset, Examples
from foldkit.datasets.splitting import SplitSettings
from foldkit.formats import InputError
from foldkit.rows.near import near_clusters, nearest, plain
from foldkit.rows.tables import column, rows_of
from foldkit.scoring.contender import Row
from foldkit.templates import Template, read_template

from .inputs import Inputs
from .sheet import Sheet

# With more comparisons than these nearness to train is not looked for: they would take more than a minute.
_MOST_COMPARED = 10**8


def scored_rows(dataset: Dataset, inputs: Inputs, by: str) -> list[tuple[int, dict[str, str]]]:
    """Return the rows of test that have a reply, with their numbers. Raises InputError where there is none."""
    if by:
        column(inputs.table, by, "[score] by")
    by_number = dict(rows_of(inputs.table))
    rows = [(row, by_number[row]) for row in with_reply(dataset.parts["test"])]
    if not rows:
        raise InputError("[split]", "rows in test with a reply", "at least one", "none", "give test a share")
    return rows


def with_reply(examples: Examples) -> list[int]:
    """Return the rows of examples but for those that have a rejected reply alone, which hold nothing as right."""
    rows: list[int] = examples.rows[examples.have_chosen].tolist()
    return rows


def row_groups(rows: Sequence[tuple[int, Row]], template: Template, split: SplitSettings) -> list[str]:
    """Return what each row is resampled with: its group, else what says the same, near copies where they belong."""
    texts = {number: f"{template.target(row)}\n{key_of(template, row)}" for number, row in rows}
    same = near_clusters(texts, split.near if split.group == "near" else 1.0)
    return [row.get(split.group, "") or str(same[number]) for number, row in rows]


def prompt_columns(rows: Sequence[Row], template: Template) -> dict[str, list[str]]:
    """Return what stands in each column of the prompt, in a conversation what was said last."""
    names = [name for name in template.prompt_slots() if name not in template.reply_slots()]
    if names:
        return {name: [row.get(name, "") for row in rows] for name in names}
    said = [template.prompt_turns(row) for row in rows]
    return {"the last message": [turns[-1].text if turns else "" for turns in said]}


def too_many(prompts: Sequence[object], train: Sequence[object]) -> bool:
    """Tell whether it would take too long to hold each row against all of train."""
    return len(train) * len(prompts) > _MOST_COMPARED


def nearness(
    prompts: Sequence[str], train: Sequence[str], progress: Callable[[str, int], Callable[[int], None]]
) -> list[float]:
    """Return how near each prompt is to the nearest of train, 0 to 1; nothing where that would take too long."""
    if not train or too_many(prompts, train):
        return []
    found, learned = list[float](), list(map(plain, train))
    done = progress("nearness to train", len(prompts))
    for prompt in prompts:
        found.append(nearest(prompt, learned, 1)[0][1])
        done(1)
    return found


def template_of_same_reply(name: str, sheet: Sheet, inputs: Inputs, rows: Sequence[Row]) -> Template:
    """Read another template to ask these rows in, which must have the same reply."""
    template = read_template(name, sheet.folder)
    for slot in template.slots():
        column(inputs.table, slot, f"template {template.name!r}")
    for row in rows:
        own, other = inputs.template.target(row), template.target(row)
        if own != other:
            todo = "reword the turns before the reply alone"
            raise InputError(sheet.path(name), "reply", f"that of the sheet's own template, {own!r}", other, todo)
    return template
