"""The judge of a sheet, at work on what the contenders gave."""

from __future__ import annotations

import dataclasses
from collections.abc import Callable, Sequence
from typing import Any

from foldkit.answering import Answerer
from foldkit.models import Base, open_base
from foldkit.scoring.intervals import Resamples
from foldkit.scoring.judge import (
    Grader,
    Item,
    command_grader,
    compare,
    estimated_tokens,
    function_grader,
    grade,
    question_text,
    verdicts,
)
from foldkit.scoring.scorecard import Asked, Given
from foldkit.scoring.settings import JudgeSettings
from foldkit.templates import Markup, read_template
from foldkit.tokens import open_text_side

from .sheet import Sheet, base_path


def judged(
    given: Sequence[Given],
    asked: Asked,
    sheet: Sheet,
    base: Base,
    on_scored: Callable[[str, int, int], None] | None = None,
) -> tuple[list[Given], dict[str, Any]]:
    """Return what the contenders gave with the judge's grades, and what there is to say of the judge.

    With `pairs` every contender's answers are held against the base's. `on_scored` hears of how many tokens the judge
    will be given, about, before it is given any, and then of each contender.
    """
    settings = sheet.score.judge
    if settings is None:
        return list(given), {}
    grader, prompts = grader_of(settings, sheet, base), asked.prompts
    resamples = Resamples(asked.groups, sheet.score.seed)
    numbers = [number for number, _ in asked.rows]
    tokens = sum(estimated_tokens(one.replies, prompts, settings) for one in given)
    found: list[Given] = []
    unreadable, pairs = {}, {}
    for one in given:
        if on_scored:
            on_scored(f"judge, about {tokens:,} tokens", len(found), len(given))
        replies = list(one.replies)
        if settings.criteria:
            replies, unreadable[one.name] = grade(replies, prompts, settings, grader)
        if settings.pairs and one is not given[0]:
            preferences, words = compare(given[0].replies, replies, prompts, grader, resamples)
            pairs[one.name] = dataclasses.asdict(preferences) | {"rows": numbers, "words": words}
        found.append(dataclasses.replace(one, replies=replies))
    said = {"tokens": tokens, "criteria": len(settings.criteria), "unreadable": unreadable, "pairs": pairs}
    return found, {"judge": said}


def grader_of(settings: JudgeSettings, sheet: Sheet, base: Base) -> Grader:
    """Return who grades: the program, the function or the base that the sheet names."""
    if settings.command:
        return command_grader(settings.command, sheet.folder)
    if settings.function:
        return function_grader(settings.function, sheet.folder)
    path = base_path(settings.base, sheet.folder)
    same = path.resolve() == sheet.base_path().resolve()
    decoder = (
        base.decoder if same else open_base(path, base.decoder.dtype, sheet.base.weights, base.decoder.device).decoder
    )
    side = open_text_side(path)
    markup: Markup = side.markup("auto")
    answerer = Answerer(decoder, side, read_template("question", sheet.folder), markup)

    def run(items: Sequence[Item]) -> list[str]:
        rows = [{"question": question_text(item)} for item in items]
        return answerer.likeliest(rows, verdicts(items[0]["task"], settings), adapted=False)

    return run
