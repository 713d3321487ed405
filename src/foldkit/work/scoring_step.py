"""The last step of a sheet: base, its other contenders and the adapter on the test part."""

from __future__ import annotations

import dataclasses
import functools
import json
import shlex
from collections import Counter
from collections.abc import Callable, Sequence
from pathlib import Path
from typing import Any

from foldkit.adapters import put_on, read_adapter, read_header
from foldkit.adapters.attaching import detach
from foldkit.answering import NO_SHOTS, Answerer, NearestShots, Shots, draw_shots, key_of
from foldkit.datasets import Coded, Dataset
from foldkit.formats import InputError, UsageError, fingerprint_files, fingerprint_value, near_name, read_json
from foldkit.formats.jsonl import read_text
from foldkit.models import Base
from foldkit.rows.near import nearest, plain
from foldkit.rows.tables import rows_of
from foldkit.runs import RunFolder, differing, of_data, read_run_sheet, run_at
from foldkit.scoring import (
    MEASURES,
    Contender,
    ContenderSettings,
    Form,
    Measure,
    Reply,
    Scorecard,
    contender_replies,
    make_scorecard,
    own_measure,
)
from foldkit.scoring.contender import Row, replies_from_file, summed_losses, text_pieces
from foldkit.scoring.judge import judge_measures
from foldkit.scoring.measures import check_schema
from foldkit.scoring.rewording import reworded
from foldkit.scoring.scorecard import Asked, Given
from foldkit.templates import Template

from .inputs import Inputs, open_inputs
from .judging import Grading, judge_of, judged
from .opening import opened_base
from .scorecard_files import write_scorecard
from .scored_rows import nearness, prompt_columns, row_groups, scored_rows, template_of_same_reply, with_reply
from .sheet import Sheet, read_sheet
from .steps import build, parts_fingerprint, read_test_part, split

OnScored = Callable[[str, int, int], None]
# Rows of train whose ids are held at once.
_PIECES_AT_ONCE = 4096


def score(sheet: Sheet, run: RunFolder | str | Path | None, on_scored: OnScored | None = None) -> Scorecard:
    """Score base, contenders of the sheet and the run's adapter on the test part, and write it into the run's folder.

    Without a run, base and contenders are scored before there is an adapter, into `before` beside the sheet.
    `on_scored(name, done, total)` hears of each batch of answers, of a judge before it starts, and of all else that
    takes long. Answers, and a judge's grades, are kept in `answers` beside the sheet as they come: a scoring that was
    stopped goes on, and what has not changed is not asked again. Raises InputError when the run's adapter was trained
    on other data than the sheet gives now.
    """
    run = run_at(run) if run is not None else None
    scoring = _Scoring(sheet, run, on_scored)
    given, compared = judged(scoring.given(), scoring.asked, sheet, scoring.grading, scoring.progress)
    scoring.progress("intervals and tests", 1)
    card = make_scorecard(given, scoring.asked, sheet.score, scoring.signed | compared, scoring.measures)
    folder = run or RunFolder(sheet.path("before"))
    folder.path.mkdir(exist_ok=True)
    write_scorecard(card, folder, sheet.score)
    return card


class _Scoring:
    """What all contenders of one scoring share: base, rows, limits, and where answers are kept."""

    def __init__(self, sheet: Sheet, run: RunFolder | None, on_scored: OnScored | None) -> None:
        self.sheet, self.run, self.settings, self.on_scored = sheet, run, sheet.score, on_scored
        self.inputs: Inputs = open_inputs(sheet)
        self.dataset: Dataset = build(sheet, self.inputs)
        self.rows = scored_rows(self.dataset, self.inputs, self.settings.by)
        self.cells: list[Row] = [row for _, row in self.rows]
        _check_needs(sheet, self.inputs)
        _check_shots(self.settings.contender, len(with_reply(self.dataset.parts["train"])))
        asked_in = [name for name in self.settings.reword if name not in self.settings.edits]
        self.templates = {name: template_of_same_reply(name, sheet, self.inputs, self.cells) for name in asked_in}
        self.slots = _slots_of_text(self.inputs.template) if self.settings.edits and self.adapters else set[str]()
        self.measures, self.form = self._measures(), self._form()
        self.judge = judge_of(sheet)
        if run:
            _check_data(run, sheet, self.dataset)
        compute = read_header(run.adapter).compute if run else sheet.base.compute
        self.base: Base = opened_base(sheet.base_path(), compute, sheet.base.weights, sheet.base.device)
        self.general = {name: self._read_general(name) for name in self.settings.texts}
        # How many tokens the reply of each row has.
        self.lengths = {example.row: len(example.chosen) for example in self.dataset.parts["test"]}
        self.max_tokens = self.settings.max_tokens or max(self.lengths.values()) * 5 // 4 + 8
        self.suspects: list[dict[str, Any]] = []

    def given(self) -> list[Given]:
        """Ask every contender: those of the base first, for only one adapter at a time sits on it."""
        asker = Answerer(self.base.decoder, self.inputs.side, self.inputs.template, self.inputs.markup)
        shots = filter(None, (self._with_shots(one, asker) for one in self.settings.contender))
        of_base = [Contender("base", asker), *shots]
        # What cannot be is told before any is asked.
        for contender in of_base:
            self._check_room(contender)
        files = {name: (path, read_adapter(path, self.base)) for name, path in self.adapters.items()}
        found = self._made_elsewhere(asker.template) | {one.name: self._given(one, "") for one in of_base}
        for name, (path, loaded) in files.items():
            adapter = put_on(self.base, loaded)
            own = Answerer.of_adapter(self.base.decoder, self.inputs.side, adapter, loaded.header)
            contender = Contender(name, own, adapted=True)
            found[name] = self._given(contender, fingerprint_files([path]))
            if name == "adapter":
                self.suspects = self._suspects(contender)
        detach(self.base.decoder)  # which may judge, and as it is
        order = ["base", *(one.name for one in self.settings.contender), *(["adapter"] if self.run else [])]
        return [found[name] for name in order]

    @property
    def grading(self) -> Grading | None:
        """Who grades, for which another base may be opened now."""
        return self.judge(self.base) if self.judge else None

    def _made_elsewhere(self, template: Template) -> dict[str, Given]:
        """Return what the contenders give whose answers stand in a file."""
        files = {one.name: self.sheet.path(one.answers) for one in self.settings.contender if one.answers}
        return {
            name: Given(name, replies_from_file(path, self.rows, template.target), 0.0) for name, path in files.items()
        }

    def _check_room(self, contender: Contender) -> None:
        """Raise InputError for a prompt that with the row's own reply does not fit the base."""
        room = self.base.decoder.spec.max_positions
        for (number, _), prompt in zip(self.rows, contender.prompts(self.cells), strict=True):
            if len(prompt) + self.lengths[number] > room:
                allowed = f"at most {room} tokens, all that the base has room for"
                found = f"{len(prompt)} of the prompt and {self.lengths[number]} of the reply"
                raise InputError("[score]", f"{contender.name}, row {number}", allowed, found, "ask for fewer shots")

    @functools.cached_property
    def adapters(self) -> dict[str, Path]:
        """The adapter files of the contenders that have one, the run's own the last."""
        named = {one.name: self._adapter_path(one) for one in self.settings.contender if one.adapter}
        return named | ({"adapter": self.run.adapter} if self.run else {})

    @property
    def elsewhere(self) -> dict[str, str]:
        """The contenders that may have learned rows of this test part, in words."""
        own, found = parts_fingerprint(self.sheet, self.inputs), {}
        for name, path in self.adapters.items():
            header = read_header(path)
            if header.parts != own and header.data_fingerprint != self.dataset.fingerprint:
                found[name] = "was trained"
            elif not {own, header.parts}.issuperset(header.earlier):
                found[name] = "began with an adapter that was trained"
        return found

    @functools.cached_property
    def asked(self) -> Asked:
        """The rows, where they came from, and how near they are to train."""
        template, train = self.inputs.template, self._train_rows
        prompts = [key_of(template, row) for row in self.cells]
        return Asked(
            self.rows,
            prompts,
            row_groups(self.rows, template, self.sheet.split),
            nearness(prompts, [key_of(template, row) for row in train], self.progress),
            Counter(template.target(row).strip() for row in train),
            prompt_columns(self.cells, template),
            self._leaks() if train else [],
            self.suspects,
            self.form,
        )

    def _leaks(self) -> list[str]:
        progress = self.progress("copies of test rows in train", 1)
        found = split(self.sheet, self.inputs).leaks
        progress(1)
        return [str(leak) for leak in found if leak.part == "test"]

    @property
    def signed(self) -> dict[str, Any]:
        """What every figure can be traced by."""
        others = {name: one for name, one in self.general.items() if isinstance(one, Coded)}
        return {
            "seed": self.settings.seed,
            "by": self.settings.by,
            "base": self.base.fingerprint,
            "data": self.dataset.fingerprint,
            "adapter": fingerprint_files([self.run.adapter]) if self.run else "",
            "max_tokens": self.max_tokens,
            "elsewhere": self.elsewhere,
            "held": self.sheet.base.weights,
            "held_in_training": {name: read_header(path).weights for name, path in self.adapters.items()},
            "left_out": {name: len(one.set_aside) for name, one in others.items() if one.set_aside},
            "higher_is_better": {measure.name: measure.higher_is_better for measure in self.measures},
            "settings": dataclasses.asdict(self.settings),
        }

    def _given(self, contender: Contender, adapter: str) -> Given:
        """Ask one contender all rows, reworded ones too, and take its loss on the general texts."""
        replies, n_prompt = self._replies(contender, self.cells, adapter, contender.name)
        general: dict[str, tuple[list[float], list[int]]] = {}
        if contender.shots is NO_SHOTS:
            general = {name: self._general_losses(contender, name) for name in self.general}
        again = self._asked_again(contender, adapter) if contender.adapted else {}
        pieces = self._pieces(contender) if contender.adapted else []
        return Given(contender.name, replies, n_prompt, general, again, pieces)

    def _read_general(self, name: str) -> str | Coded:
        """Return a general text, or the test part of another sheet."""
        path = self.sheet.path(name)
        if path.suffix != ".toml":
            text = read_text(path)
            if len(self.inputs.side.tokenizer.encode_text(text)) < 2:
                todo = "add to it, or leave it out of [score]"
                raise InputError(path, "general", "a text of at least two tokens", text, todo)
            return text
        found = read_test_part(read_sheet(path), self.sheet.base_path(), self.base.decoder.spec.max_positions)
        if not len(found.examples):
            raise InputError(path, "rows in test", "at least one", "none", "give test a share")
        return found

    def _general_losses(self, contender: Contender, name: str) -> tuple[list[float], list[int]]:
        given = self.general[name]
        if isinstance(given, str):
            pieces = text_pieces(contender.answerer, given, self.sheet.train.window)
        else:
            pieces = [(one.ids, one.learned) for one in given.examples]
        progress = self.progress(f"{contender.name}, {name}", len(pieces))
        return summed_losses(contender.answerer, pieces, progress, adapted=contender.adapted)

    def _asked_again(self, contender: Contender, adapter: str) -> dict[str, list[Reply]]:
        """Ask with every prompt reworded: by the simple edits together, and in each template that is named."""
        edits, found = self.settings.edits, {}
        if edits:
            named = " and ".join(edits)
            rows = list(reworded(self.cells, self.slots, edits, self.settings.seed))
            found[named] = self._replies(contender, rows, adapter, f"{contender.name}, {named}")[0]
        own = contender.answerer
        for name, template in self.templates.items():
            asker = Answerer(own.decoder, self.inputs.side, template, own.encoder.markup, own.adapter)
            again = dataclasses.replace(contender, answerer=asker)
            found[name] = self._replies(again, self.cells, adapter, f"{contender.name}, {name}")[0]
        return found

    def _replies(self, contender: Contender, rows: Sequence[Row], adapter: str, name: str) -> tuple[list[Reply], float]:
        ranked = "ranked" in self.settings.measures
        prompts = contender.prompts(rows)
        kept_at = self._kept_at(contender, rows, prompts, adapter, ranked=ranked)
        progress = self.progress(name, len(rows))
        replies = contender_replies(
            contender, rows, prompts, self.max_tokens, self.settings.batch, kept_at, progress, ranked=ranked
        )
        return replies, sum(map(len, prompts)) / len(rows)

    def progress(self, name: str, total: int) -> Callable[[int], None]:
        """Return what tells the listener of each count that is done, and tell it of the start."""
        done = 0

        def progress(count: int) -> None:
            nonlocal done
            done += count
            if self.on_scored:
                self.on_scored(name, done, total)

        progress(0)
        return progress

    def _kept_at(
        self,
        contender: Contender,
        rows: Sequence[Row],
        prompts: Sequence[tuple[int, ...]],
        adapter: str,
        *,
        ranked: bool,
    ) -> Path:
        """Return the file that keeps a contender's answers: its name holds all that they depend on."""
        answerer = contender.answerer
        made_from = {
            "base": self.base.fingerprint,
            "held": [self.sheet.base.weights, self.base.compute, self.base.decoder.device.type],
            "adapter": adapter,
            "template": answerer.template.as_mapping(),
            "markup": answerer.encoder.markup.as_mapping(),
            "prompts": fingerprint_value(prompts),
            "replies": fingerprint_value([[answerer.template.target(row) for row in rows], ranked]),
            "limits": [self.max_tokens, self.settings.batch],
        }
        folder = self.sheet.path("answers")
        folder.mkdir(exist_ok=True)
        return folder / f"{fingerprint_value(made_from).removeprefix('sha256:')}.jsonl"

    @functools.cached_property
    def _train_rows(self) -> list[dict[str, str]]:
        by_number = dict(rows_of(self.inputs.table))
        return [by_number[row] for row in with_reply(self.dataset.parts["train"])]

    def _with_shots(self, one: ContenderSettings, asker: Answerer) -> Contender | None:
        if not one.shots:
            return None
        if not one.nearest:
            return Contender(one.name, asker, shots=draw_shots(self._train_rows, one.shots, one.seed))
        template = asker.template
        prompts = [plain(key_of(template, row)) for row in self._train_rows]
        chosen: dict[str, Shots] = {}
        progress = self.progress(f"examples for {one.name}", len(self.cells))
        for row in self.cells:
            close = nearest(key_of(template, row), prompts, one.shots + 20)
            fit = [place for place, alike in close if alike < self.sheet.split.near][: one.shots]
            chosen[key_of(template, row)] = Shots(tuple(self._train_rows[place] for place in reversed(fit)))
            progress(1)
        return Contender(one.name, asker, shots=NearestShots(chosen))

    def _adapter_path(self, one: ContenderSettings) -> Path:
        """Return the adapter of a run of this sheet, or a file."""
        own, file = RunFolder(self.sheet.path("runs") / one.adapter).adapter, self.sheet.path(one.adapter)
        if own.is_file() or not file.is_file():
            if not own.is_file():
                known = [path.name for path in self.sheet.path("runs").glob("*")]
                todo = near_name(one.adapter, known) if known else "train one first"
                where = f"[score.contender] {one.name}"
                raise UsageError(where, "adapter", "a run of this sheet or an adapter file", one.adapter, todo)
            return own
        return file

    def _pieces(self, contender: Contender) -> list[list[str]]:
        """Return the tokens of each row's target as text."""
        answerer, found = contender.answerer, []
        for row in self.cells:
            ids, own = answerer.with_reply(row, answerer.template.target(row))
            found.append([answerer.encoder.tokenizer.decode([i]) for i, flag in zip(ids, own, strict=True) if flag])
        return found

    def _suspects(self, contender: Contender) -> list[dict[str, Any]]:
        """Return the rows of train whose replies the adapter still finds the hardest, a token."""
        if not self.settings.suspects:
            return []
        numbers, rows = with_reply(self.dataset.parts["train"]), self._train_rows
        losses: list[float] = []
        answerer, template = contender.answerer, contender.answerer.template
        progress = self.progress("rows of train that stay hard", len(rows))
        for start in range(0, len(rows), _PIECES_AT_ONCE):
            some = rows[start : start + _PIECES_AT_ONCE]
            pieces = [answerer.with_reply(row, template.target(row)) for row in some]
            found = summed_losses(answerer, pieces, progress, adapted=contender.adapted)
            losses += [total / n for total, n in zip(*found, strict=True)]
        worst = sorted(range(len(rows)), key=lambda index: -losses[index])[: self.settings.suspects]
        return [
            {"row": numbers[index], "loss": losses[index], "reply": template.target(rows[index])} for index in worst
        ]

    def _form(self) -> Form:
        settings, schema = self.settings, None
        if settings.schema:
            path = self.sheet.path(settings.schema)
            schema = read_json(path, "mend it")
            check_schema(schema, path)
        return Form(settings.pattern, schema, settings.columns, settings.tolerance)

    def _measures(self) -> list[Measure]:
        judge = self.settings.judge
        own = [own_measure(named, self.sheet.folder) for named in self.settings.own]
        return [*(MEASURES[name] for name in self.settings.measures), *own, *(judge_measures(judge) if judge else [])]


def _slots_of_text(template: Template) -> set[str]:
    """Return the slots of a prompt that can be reworded; raises InputError where there are none."""
    kept = {slot for pattern in template.turn if pattern.learned or pattern.each for slot in pattern.slots}
    slots = set(template.prompt_slots()) - kept
    if not slots:
        todo = "leave reword out"
        raise InputError("[score]", "reword", "a template whose prompt has slots of text", template.name, todo)
    return slots


def _check_needs(sheet: Sheet, inputs: Inputs) -> None:
    if "ranked" in sheet.score.measures and not inputs.template.rejected_slots():
        todo = "give the last learned turn a `rejected` text, or leave ranked out"
        expected = "a template with a rejected reply, for ranked"
        raise InputError("[score]", "measures", expected, inputs.template.name, todo)


def _check_shots(contenders: Sequence[ContenderSettings], n_rows: int) -> None:
    """Raise InputError for a contender with more worked examples than train has rows."""
    for one in contenders:
        if one.shots > n_rows:
            allowed, todo = f"at most {n_rows}, the rows of train with a reply", "ask for fewer, or leave it out"
            raise InputError(f"[score.contender] {one.name}", "shots", allowed, one.shots, todo)


def _check_data(run: RunFolder, sheet: Sheet, dataset: Dataset) -> None:
    """Raise InputError, with the settings that make the difference, where the sheet gives other data than a run had."""
    before = read_header(run.adapter).data_fingerprint
    if before == dataset.fingerprint:
        return
    other = differing([read_run_sheet(run), json.loads(json.dumps(sheet.as_mapping()))])
    own = {name: other[name][0] for name in of_data(other) if other[name][0] is not None}
    told = [f"{name}={was if isinstance(was, str) else json.dumps(was)}" for name, was in own.items()]
    todo = "its rows, its template or its base have changed since: put them back, or train anew"
    if told:
        todo = f"it was trained by other settings: {' '.join(f'--set {shlex.quote(one)}' for one in told)}"
    raise InputError(run.adapter, "data", before, dataset.fingerprint, todo)
