"""The judge of a sheet, at work on what the contenders gave."""

from __future__ import annotations

import dataclasses
import functools
import itertools
from collections.abc import Callable, Iterator, Sequence
from typing import Any

from foldkit.answering import Answerer
from foldkit.formats import fingerprint_files, fingerprint_value
from foldkit.models import Base
from foldkit.scoring.graders import Grader, KeptGrades, check_command, command_grader, function_grader
from foldkit.scoring.intervals import Resamples
from foldkit.scoring.judge import (
    Item,
    estimated_tokens,
    grade_items,
    graded,
    pair_items,
    preferences,
    question_text,
    verdicts,
)
from foldkit.scoring.scorecard import Asked, Given
from foldkit.scoring.settings import JudgeSettings
from foldkit.templates import Markup, read_template
from foldkit.tokens import TextSide, open_text_side

from .opening import opened_base
from .sheet import Sheet, base_path

# Who grades, and what the grades hang on.
Grading = tuple[Grader, list[Any]]
# Items that a base grades before they are kept.
_AT_ONCE = 64


def judged(
    given: Sequence[Given],
    asked: Asked,
    sheet: Sheet,
    grading: Grading | None,
    progress: Callable[[str, int], Callable[[int], None]],
) -> tuple[list[Given], dict[str, Any]]:
    """Return what the contenders gave with the judge's grades, and what there is to say of the judge.

    With `pairs` every contender's answers are held against the base's. Grades are kept in `answers` beside the sheet:
    what was said of an answer is not asked again. `progress` is told about how many tokens the judge will be given
    before it is given any, and returns what hears of each item.
    """
    settings = sheet.score.judge
    if settings is None or grading is None:
        return list(given), {}
    grader, made_from = grading
    kept_at = sheet.path("answers") / f"judge-{fingerprint_value(made_from).removeprefix('sha256:')}.jsonl"
    judge, prompts, first = KeptGrades(grader, kept_at), asked.prompts, given[0]
    heard = {one.name: [reply.behind(sheet.score.after) for reply in one.replies] for one in given}
    of_each = {name: grade_items(replies, prompts, settings) for name, replies in heard.items()}
    pairs = {one.name: pair_items(heard[first.name], heard[one.name], prompts) for one in given[1:] if settings.pairs}
    items = [*itertools.chain(*of_each.values(), *pairs.values())]
    tokens = estimated_tokens(judge.missing(items).values())
    done = progress(f"judge, about {tokens:,} tokens", len(items))
    resamples, numbers = Resamples(asked.groups, sheet.score.seed), [number for number, _ in asked.rows]
    found: list[Given] = []
    said: dict[str, Any] = {"tokens": tokens, "criteria": len(settings.criteria), "unreadable": {}, "pairs": {}}
    for one in given:
        replies, lost = graded(one.replies, judge.texts(of_each[one.name], done), settings)
        found.append(dataclasses.replace(one, replies=replies))
        if settings.criteria:
            said["unreadable"][one.name] = lost
        if one.name in pairs:
            counts, words = preferences(judge.texts(pairs[one.name], done), resamples)
            said["pairs"][one.name] = dataclasses.asdict(counts) | {"rows": numbers, "words": words}
    kept = {"kept": judge.n_kept, "items": len(items), "kept_at": kept_at.relative_to(sheet.folder).as_posix()}
    return found, {"judge": said | kept}


def judge_of(sheet: Sheet) -> Callable[[Base], Grading] | None:
    """Return what gives the judge of a sheet once its base is open, None where there is none.

    The grades of a program hang on its words, with the files among them. Raises InputError at once for a program, a
    function or a base that is not there.
    """
    settings = sheet.score.judge
    if settings is None:
        return None
    if settings.base:
        return functools.partial(_base_grader, settings, sheet, open_text_side(base_path(settings.base, sheet.folder)))
    if settings.command:
        check_command(settings.command, sheet.folder)
        files = [path for word in settings.command.split() if (path := sheet.folder / word).is_file()]
        found: Grading = command_grader(settings.command, sheet.folder), [settings.command, fingerprint_files(files)]
    else:
        file = sheet.folder / settings.function.rpartition(":")[0]
        found = function_grader(settings.function, sheet.folder), [settings.function, fingerprint_files([file])]
    return lambda _: found


def _base_grader(settings: JudgeSettings, sheet: Sheet, side: TextSide, base: Base) -> Grading:
    path = base_path(settings.base, sheet.folder)
    same = path.resolve() == sheet.base_path().resolve()
    own = base if same else opened_base(path, base.compute, sheet.base.weights, sheet.base.device)
    markup: Markup = side.markup("auto", sheet.base.markup_values if same else {})
    answerer = Answerer(own.decoder, side, read_template("question", sheet.folder), markup)

    def run(items: Sequence[Item]) -> Iterator[tuple[str, str]]:
        options = verdicts(items[0]["task"], settings)
        for start in range(0, len(items), _AT_ONCE):
            some = items[start : start + _AT_ONCE]
            rows = [{"question": question_text(item)} for item in some]
            said = answerer.likeliest(rows, options, adapted=False)
            yield from zip((item["id"] for item in some), said, strict=True)

    return run, [own.fingerprint, sheet.base.weights, own.compute, own.decoder.device.type]
