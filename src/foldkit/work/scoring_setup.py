"""What all contenders of one scoring share: the rows, the base, limits, and who hears how far it is."""

from __future__ import annotations

import functools
import json
import shlex
from collections.abc import Callable, Sequence
from pathlib import Path

from foldkit.adapters import read_header
from foldkit.datasets import Dataset
from foldkit.formats import InputError, UsageError, near_name
from foldkit.models import Base
from foldkit.rows.tables import rows_of
from foldkit.runs import RunFolder, differing, of_data, read_run_sheet
from foldkit.scoring import ContenderSettings
from foldkit.scoring.contender import Row

from .inputs import Inputs, open_inputs
from .opening import opened_base
from .scored_rows import scored_rows, with_reply
from .sheet import Sheet
from .steps import build, parts_fingerprint

OnScored = Callable[[str, int, int], None]


class ScoringSetup:
    """The test rows with their numbers, and alone as `cells`; adapters' files; the base, opened when it is asked for.

    `on_scored(name, done, total)` hears of each batch. Raises InputError where the run's adapter was trained on other
    data than the sheet gives now, and for measures and shots that these rows have not got what is needed for.
    """

    def __init__(self, sheet: Sheet, run: RunFolder | None, on_scored: OnScored | None) -> None:
        self.sheet, self.run, self.settings, self.on_scored = sheet, run, sheet.score, on_scored
        self.inputs: Inputs = open_inputs(sheet)
        self.dataset: Dataset = build(sheet, self.inputs)
        self.rows = scored_rows(self.dataset, self.inputs, self.settings.by)
        self.cells: list[Row] = [row for _, row in self.rows]
        self.train_numbers = with_reply(self.dataset.parts["train"])
        _check_needs(sheet, self.inputs)
        _check_shots(self.settings.contender, len(self.train_numbers))
        if run:
            _check_data(run, sheet, self.dataset)
        # How many tokens the reply of each row has.
        self.lengths = {example.row: len(example.chosen) for example in self.dataset.parts["test"]}
        self.max_tokens = self.settings.max_tokens or max(self.lengths.values()) * 5 // 4 + 8

    @functools.cached_property
    def base(self) -> Base:
        """The base as the sheet has it; what it computes in, where that is left open, as the adapter was trained."""
        own = self.sheet.base
        compute = read_header(self.run.adapter).compute if self.run and own.compute == "auto" else own.compute
        return opened_base(self.sheet.base_path(), compute, own.weights, own.device)

    @property
    def trained_otherwise(self) -> dict[str, dict[str, tuple[str, str]]]:
        """The settings of the base that contenders were trained with in another way: what they were, and are here."""
        here = {"weights": self.sheet.base.weights, "compute": self.base.compute}
        found = {}
        for name, path in self.adapters.items():
            header = read_header(path)
            trained = {"weights": header.weights, "compute": header.compute}
            found[name] = {key: (was, here[key]) for key, was in trained.items() if was != here[key]}
        return found

    @functools.cached_property
    def train_rows(self) -> list[dict[str, str]]:
        """The rows of train that have a reply."""
        by_number = dict(rows_of(self.inputs.table))
        return [by_number[row] for row in self.train_numbers]

    @functools.cached_property
    def adapters(self) -> dict[str, Path]:
        """The adapter files of the contenders that have one, the run's own the last."""
        named = {one.name: self._adapter_path(one) for one in self.settings.contender if one.adapter}
        return named | ({"adapter": self.run.adapter} if self.run else {})

    def _adapter_path(self, one: ContenderSettings) -> Path:
        """Return the adapter of a run of this sheet, or a file."""
        own, file = RunFolder(self.sheet.path("runs") / one.adapter).adapter, self.sheet.path(one.adapter)
        if own.is_file():
            return own
        if not file.is_file():
            known = [path.name for path in self.sheet.path("runs").glob("*")]
            todo = near_name(one.adapter, known) if known else "train one first"
            where = f"[score.contender] {one.name}"
            raise UsageError(where, "adapter", "a run of this sheet or an adapter file", one.adapter, todo)
        return file

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
