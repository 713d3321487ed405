"""The last step of a sheet: base, its other contenders and the adapter on the test part."""

from __future__ import annotations

import dataclasses
from collections import Counter
from collections.abc import Sequence
from pathlib import Path
from typing import Any

from foldkit.adapters import read_adapter
from foldkit.adapters.attaching import detach
from foldkit.answering import key_of
from foldkit.formats import fingerprint_files, read_json
from foldkit.models.threads import giving_way
from foldkit.runs import RunFolder, run_at
from foldkit.scoring import MEASURES, Form, Measure, Scorecard, make_scorecard, own_measure
from foldkit.scoring.judge import judge_measures
from foldkit.scoring.measures import check_schema
from foldkit.scoring.scorecard import Asked, Given

from .asking_contenders import Asking
from .contenders import contender_with_adapter, contenders_of_base, made_elsewhere
from .judging import judge_of, judged
from .scorecard_files import write_scorecard
from .scored_rows import nearness, prompt_columns, row_groups, too_many
from .scoring_setup import OnScored, ScoringSetup
from .sheet import Sheet
from .steps import split


@giving_way()
def score(sheet: Sheet, run: RunFolder | str | Path | None, on_scored: OnScored | None = None) -> Scorecard:
    """Score base, contenders of the sheet and the run's adapter on the test part, and write it into the run's folder.

    Without a run, base and contenders are scored before there is an adapter, into `before` beside the sheet.
    `on_scored(name, done, total)` hears of each batch of answers, of a judge before it starts, and of all else that
    takes long. Answers, and a judge's grades, are kept in `answers` beside the sheet as they come: a scoring that was
    stopped goes on, and what has not changed is not asked again. Raises InputError when the run's adapter was trained
    on other data than the sheet gives now.
    """
    run = run_at(run) if run is not None else None
    setup = ScoringSetup(sheet, run, on_scored)
    measures, form, judge = _measures(sheet), _form(sheet), judge_of(sheet)
    asking = Asking(setup)
    given, suspects = _given(setup, asking)
    asked = asked_rows(setup, suspects, form)
    given, compared = judged(given, asked, sheet, judge(setup.base) if judge else None, setup.progress)
    setup.progress("intervals and tests", 1)
    card = make_scorecard(given, asked, sheet.score, _signed(setup, asking, measures) | compared, measures)
    folder = run or RunFolder(sheet.path("before"))
    folder.path.mkdir(exist_ok=True)
    write_scorecard(card, folder, sheet.score)
    return card


def _given(setup: ScoringSetup, asking: Asking) -> tuple[list[Given], list[dict[str, Any]]]:
    """Ask every contender, those of the base first; return what they give in the sheet's order, and the run's suspects.

    What cannot be is told before any is asked.
    """
    of_base, suspects = contenders_of_base(setup), list[dict[str, Any]]()
    adapters = {name: read_adapter(path, setup.base) for name, path in setup.adapters.items()}
    found = made_elsewhere(setup) | {one.name: asking.given(one) for one in of_base}
    for name, loaded in adapters.items():
        contender = contender_with_adapter(name, loaded, setup)
        found[name] = asking.given(contender)
        if name == "adapter":
            suspects = asking.suspects(contender)
    detach(setup.base.decoder)  # which may judge, and as it is
    order = ["base", *(one.name for one in setup.settings.contender), *(["adapter"] if setup.run else [])]
    return [found[name] for name in order], suspects


def asked_rows(setup: ScoringSetup, suspects: Sequence[dict[str, Any]], form: Form) -> Asked:
    """Return the rows, where they came from, and how near they are to train."""
    template, train = setup.inputs.template, setup.train_rows
    prompts = [key_of(template, row) for row in setup.cells]
    return Asked(
        setup.rows,
        prompts,
        row_groups(setup.rows, template, setup.sheet.split),
        nearness(prompts, [key_of(template, row) for row in train], setup.progress),
        Counter(template.target(row).strip() for row in train),
        prompt_columns(setup.cells, template),
        _leaks(setup) if train else [],
        suspects,
        form,
    )


def _leaks(setup: ScoringSetup) -> list[str]:
    progress = setup.progress("copies of test rows in train", 1)
    found = split(setup.sheet, setup.inputs).leaks
    progress(1)
    return [str(leak) for leak in found if leak.part == "test"]


def _signed(setup: ScoringSetup, asking: Asking, measures: Sequence[Measure]) -> dict[str, Any]:
    """Return what every figure can be traced by."""
    settings = setup.settings
    return {
        "seed": settings.seed,
        "by": settings.by,
        "base": setup.base.fingerprint,
        "data": setup.dataset.fingerprint,
        "adapter": fingerprint_files([setup.run.adapter]) if setup.run else "",
        "max_tokens": setup.max_tokens,
        "elsewhere": setup.elsewhere,
        "trained_otherwise": setup.trained_otherwise,
        "left_out": asking.general.left_out,
        "not_compared": len(setup.train_rows) if too_many(setup.rows, setup.train_rows) else 0,
        "higher_is_better": {measure.name: measure.higher_is_better for measure in measures},
        "settings": dataclasses.asdict(settings),
    }


def _form(sheet: Sheet) -> Form:
    settings, schema = sheet.score, None
    if settings.schema:
        path = sheet.path(settings.schema)
        schema = read_json(path, "mend it")
        check_schema(schema, path)
    return Form(settings.pattern, schema, settings.columns, settings.tolerance)


def _measures(sheet: Sheet) -> list[Measure]:
    settings, judge = sheet.score, sheet.score.judge
    own = [own_measure(named, sheet.folder) for named in settings.own]
    return [*(MEASURES[name] for name in settings.measures), *own, *(judge_measures(judge) if judge else [])]
