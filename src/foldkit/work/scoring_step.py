"""The last step of a sheet: base, its other contenders and the adapter on the test part."""

from __future__ import annotations

import dataclasses
import json
from collections.abc import Callable, Mapping
from dataclasses import dataclass

from foldkit.adapters import load_adapter, read_header
from foldkit.answering import Answerer, draw_shots
from foldkit.datasets import Dataset
from foldkit.formats import InputError, fingerprint_files, write_aside, write_jsonl
from foldkit.formats.jsonl import read_text
from foldkit.models import chosen_compute, open_base
from foldkit.rows.tables import column, rows_of
from foldkit.runs import RunFolder
from foldkit.scoring import Contender, Scorecard, contender_replies, make_scorecard
from foldkit.scoring.contender import text_loss
from foldkit.scoring.markdown import scorecard_markdown
from foldkit.scoring.scorecard import Given

from .inputs import Inputs, open_inputs
from .sheet import Sheet
from .steps import build

OnScored = Callable[[str, int, int], None]


@dataclass(frozen=True)
class _Scoring:
    """What all contenders of one scoring share."""

    answerer: Answerer
    rows: list[dict[str, str]]
    max_tokens: int
    batch: int
    general: str
    window: int
    on_scored: OnScored | None
    ranked: bool

    def given(self, contender: Contender) -> Given:
        """Ask one contender all rows, and take its loss on the general text, which shots do not change."""
        done = 0

        def progress(count: int) -> None:
            nonlocal done
            done += count
            if self.on_scored:
                self.on_scored(contender.name, done, len(self.rows))

        replies, n_prompt = contender_replies(
            contender, self.answerer, self.rows, self.max_tokens, self.batch, progress, ranked=self.ranked
        )
        loss = None
        if self.general and not contender.shots.rows:
            loss = text_loss(self.answerer, self.general, self.window, adapted=contender.adapted)
        return Given(contender.name, replies, n_prompt, loss)


def score(sheet: Sheet, run: RunFolder, on_scored: OnScored | None = None) -> Scorecard:
    """Score base, contenders of the sheet and the run's adapter on the test part, and write it into the run folder.

    `on_scored(name, done, total)` hears of each batch of answers. Raises InputError when the run's adapter was
    trained on other data than the sheet gives now.
    """
    inputs, settings = open_inputs(sheet), sheet.score
    dataset = build(sheet, inputs)
    rows = _test_rows(dataset, inputs, settings.by)
    compute = chosen_compute(read_header(run.adapter).compute)
    base = open_base(sheet.base_path(), compute.dtype, sheet.base.weights)
    adapter, header = load_adapter(run.adapter, base)
    if header.data_fingerprint != dataset.fingerprint:
        todo = "score with the sheet it was trained by"
        raise InputError(run.adapter, "data", header.data_fingerprint, dataset.fingerprint, todo)
    if "ranked" in settings.measures and not inputs.template.rejected_slots():
        todo = "give the last learned turn a `rejected` text, or leave ranked out"
        raise InputError(
            "[score]", "measures", "a template with a rejected reply, for ranked", inputs.template.name, todo
        )
    longest = max(example.n_learned for example in dataset.parts["test"])
    max_tokens = settings.max_tokens or longest * 5 // 4 + 8
    general = read_text(sheet.path(settings.general)) if settings.general else ""
    answerer = Answerer.of_adapter(base.decoder, inputs.side, adapter, header)
    scoring = _Scoring(
        answerer,
        [row for _, row in rows],
        max_tokens,
        settings.batch,
        general,
        sheet.train.window,
        on_scored,
        "ranked" in settings.measures,
    )
    given = [scoring.given(contender) for contender in _contenders(sheet, dataset, inputs)]
    signed = {
        "seed": settings.seed,
        "by": settings.by,
        "base": header.base_fingerprint,
        "data": header.data_fingerprint,
        "adapter": fingerprint_files([run.adapter]),
        "max_tokens": max_tokens,
        "settings": dataclasses.asdict(settings),
    }
    groups = [row.get(sheet.split.group, "") or str(number) for number, row in rows]
    card = make_scorecard(given, rows, groups, settings, signed)
    _write(card, run, [_shown_prompt(inputs, row) for _, row in rows])
    return card


def _test_rows(dataset: Dataset, inputs: Inputs, by: str) -> list[tuple[int, dict[str, str]]]:
    if by:
        column(inputs.table, by, "[score] by")
    by_number = dict(rows_of(inputs.table))
    rows = [(example.row, by_number[example.row]) for example in dataset.parts["test"]]
    if not rows:
        raise InputError("[split]", "rows in test", "at least one", "none", "give test a share")
    return rows


def _contenders(sheet: Sheet, dataset: Dataset, inputs: Inputs) -> list[Contender]:
    by_number = dict(rows_of(inputs.table))
    train_rows = [by_number[example.row] for example in dataset.parts["train"]]
    with_shots = [Contender(c.name, shots=draw_shots(train_rows, c.shots, c.seed)) for c in sheet.score.contender]
    return [Contender("base"), *with_shots, Contender("adapter", adapted=True)]


def _shown_prompt(inputs: Inputs, row: Mapping[str, str]) -> str:
    return "\n\n".join(turn.text for turn in inputs.template.prompt_turns(row))


def _write(card: Scorecard, run: RunFolder, prompts: list[str]) -> None:
    write_aside(run.scorecard, json.dumps(card.as_mapping(), indent=2, ensure_ascii=False) + "\n")
    write_aside(run.scorecard.with_suffix(".md"), scorecard_markdown(card, prompts))
    write_jsonl(run.rows, card.rows)
