"""Trying settings: a run for each combination, resumable as a whole, ranked by validation alone."""

from __future__ import annotations

import itertools
import json
import os
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import Any, NamedTuple

from foldkit.formats import FoldKitError, InputError, StoppedError, UsageError, near_name, read_json, write_aside
from foldkit.runs import RunFolder, flat, new_run, of_loss, read_run_sheet, summarise_run

from .sheet import Sheet, literal, sheet_from_mapping
from .training_step import OnEvent, resume, train

VERSION = 1
_BASE = ("base.weights", "base.compute")
SEED = "train.seed"

OnTrial = Callable[[int, int, Mapping[str, Any]], None]


@dataclass(frozen=True)
class Trials:
    """A sheet, the settings to vary with the values of each, and the folder that keeps the plan of it."""

    folder: RunFolder
    sheet: Sheet
    varied: dict[str, list[Any]]

    def combinations(self) -> list[dict[str, Any]]:
        """Return the settings of each run, the last one varied fastest."""
        return [dict(zip(self.varied, values, strict=True)) for values in itertools.product(*self.varied.values())]

    def run(self, number: int) -> RunFolder:
        """Return the place of the run of that number, from 1."""
        return RunFolder(self.folder.path.with_name(f"{self.folder.path.name}-{number:02d}"))

    def runs(self) -> list[RunFolder]:
        """Return the places of all runs."""
        return [self.run(number) for number in range(1, len(self.combinations()) + 1)]

    def sheet_of(self, settings: Mapping[str, Any]) -> Sheet:
        """Return the sheet with these settings. Raises UsageError for a value out of its range."""
        values = self.sheet.as_mapping()
        for key, value in settings.items():
            place: Any = values
            *outer, last = key.split(".")
            for part in outer:
                place = place[part]
            place[last] = value
        return sheet_from_mapping(values, self.sheet.folder, "--vary")


@dataclass(frozen=True)
class Tried:
    """One setting, its runs (several where seeds were varied), and the best validation loss of each by its seed."""

    settings: dict[str, Any]
    runs: list[str]
    by_seed: dict[int, float]
    seconds: float
    states: list[str]

    @property
    def losses(self) -> list[float]:
        """The best validation losses, in the order of the runs."""
        return list(self.by_seed.values())

    @property
    def ends(self) -> tuple[float, float] | None:
        """The ends of the mean's 95% interval over seeds, None with one seed."""
        return _student(self.losses)

    @property
    def mean(self) -> float:
        """The mean best validation loss; infinite when no run has one."""
        return sum(self.losses) / len(self.losses) if self.losses else float("inf")


class Lead(NamedTuple):
    """How much lower the first setting's loss is than the second's, over the seeds of both, and the interval of that.

    `ends` are None with one seed. Runs of one seed see the same rows in the same order, so they are compared in pairs.
    """

    value: float
    n_seeds: int
    ends: tuple[float, float] | None

    @property
    def sure(self) -> bool:
        """Whether the seeds tell the two apart."""
        return self.ends is not None and self.ends[0] > 0


def lead_of(tried: Sequence[Tried]) -> Lead | None:
    """Return the lead of the first of ranked settings, None where there is no second one with a seed of the first."""
    if len(tried) < 2:
        return None
    first, second = tried[0].by_seed, tried[1].by_seed
    gains = [second[seed] - loss for seed, loss in first.items() if seed in second]
    return Lead(sum(gains) / len(gains), len(gains), _student(gains)) if gains else None


def plan_trials(sheet: Sheet, varied: Sequence[str], name: str = "") -> Trials:
    """Plan a run for every combination of `section.key=[values]`, all settings held against their ranges first.

    Raises UsageError for one that is unknown, has no list, or changes what a validation loss means, and what a training
    would for adapters that the base is not capable of, or that begin with a file that is none.
    """
    values = dict(_varied(text, sheet) for text in varied)
    trials = Trials(RunFolder(Path()), sheet, values)
    _check_adapters([trials.sheet_of(settings) for settings in trials.combinations()])
    folder = new_run(sheet.path("runs"), name, "vary")
    taken = [run.path.name for run in Trials(folder, sheet, values).runs() if run.path.exists()]
    if taken:
        folder.path.rmdir()
        raise UsageError("--name", "name", "one whose runs are not there yet", ", ".join(taken), "choose another name")
    at = os.path.relpath(sheet.folder.resolve(), folder.path.resolve())
    plan = {"version": VERSION, "folder": Path(at).as_posix(), "varied": values, "sheet": sheet.as_mapping()}
    write_aside(folder.plan, json.dumps(plan, indent=2, ensure_ascii=False) + "\n")
    return Trials(folder, sheet, values)


def _check_adapters(sheets: Sequence[Sheet]) -> None:
    from foldkit.adapters import check_fits, read_header
    from foldkit.models import decoder_without_weights

    decoder = decoder_without_weights(sheets[0].base_path())
    for sheet in sheets:
        check_fits(decoder, sheet.adapter)
        if before := sheet.adapter.begin or sheet.adapter.over:
            read_header(sheet.path(before))


def read_trials(folder: RunFolder) -> Trials:
    """Open a plan to go on with it."""
    plan = read_json(folder.plan, "put it back, or begin anew with --vary")
    if plan["version"] != VERSION:
        raise InputError(folder.plan, "version", str(VERSION), plan["version"], "begin anew with --vary")
    sheet = sheet_from_mapping(plan["sheet"], folder.path / plan["folder"], str(folder.plan))
    return Trials(folder, sheet, plan["varied"])


def plan_of(run: RunFolder) -> RunFolder | None:
    """Return the folder of the plan that a run is part of, None for a run by itself."""
    name, _, _ = run.path.name.rpartition("-")
    folder = RunFolder(run.path.parent / name)
    return folder if name and folder.plan.exists() and run in read_trials(folder).runs() else None


def make_trials(
    trials: Trials, on_trial: OnTrial, on_event: OnEvent | None = None, *, stop: Callable[[], bool] = lambda: False
) -> list[Tried]:
    """Train what is not finished yet, and return what was tried, the best validation first.

    A training that fails is kept as failed, and the next one begins; a stop ends all.
    """
    combinations = trials.combinations()
    for number, settings in enumerate(combinations, 1):
        run = trials.run(number)
        if run.sheet.exists() and summarise_run(run).state == "finished":
            continue
        on_trial(number, len(combinations), settings)
        try:
            if run.sheet.exists():
                resume(run, on_event, stop=stop)
            else:
                train(trials.sheet_of(settings), run.path.name, on_event, stop=stop)
        except StoppedError:
            break
        except (InputError, OSError):
            raise
        except FoldKitError:
            if not run.sheet.exists() or summarise_run(run).state != "failed":
                raise
        if stop() or summarise_run(run).state == "stopped":
            break
    return ranked(trials)


def ranked(trials: Trials) -> list[Tried]:
    """Return every setting with what its runs came to, the lowest mean validation loss first."""
    groups: dict[str, list[tuple[dict[str, Any], RunFolder]]] = {}
    for number, settings in enumerate(trials.combinations(), 1):
        own = {key: value for key, value in settings.items() if key != SEED}
        groups.setdefault(json.dumps(own), []).append((own, trials.run(number)))
    return sorted((_tried(group) for group in groups.values()), key=lambda tried: tried.mean)


def _tried(group: Sequence[tuple[dict[str, Any], RunFolder]]) -> Tried:
    begun = [run for _, run in group if run.sheet.exists()]
    found = [summarise_run(run) for run in begun]
    losses = {
        int(read_run_sheet(run)["train"]["seed"]): float(one.best_validation_loss)
        for run, one in zip(begun, found, strict=True)
        if one.state == "finished" and one.best_validation_loss is not None
    }
    states = [run.state for run in found] + ["not begun"] * (len(group) - len(found))
    return Tried(group[0][0], [run.name for run in found], losses, sum(run.seconds for run in found), states)


def _student(values: Sequence[float]) -> tuple[float, float] | None:
    """Return the ends of the 95% interval of a mean (Student 1908), None of one value."""
    from scipy import stats

    n = len(values)
    if n < 2:
        return None
    mean = sum(values) / n
    error = (sum((value - mean) ** 2 for value in values) / (n - 1) / n) ** 0.5
    reach = float(stats.t.ppf(0.975, n - 1)) * error
    return mean - reach, mean + reach


def _varied(text: str, sheet: Sheet) -> tuple[str, list[Any]]:
    key, sign, values = (part.strip() for part in text.partition("="))
    found = literal(values) if sign else None
    if not isinstance(found, list) or not found:
        raise UsageError("--vary", "setting", "section.key=[values]", text, "for example 'adapter.rank=[4, 8]'")
    sections = sheet.as_mapping()
    names = (f"{section}.{name}" for section, own in sections.items() if isinstance(own, dict) for name in own)
    known = {*names, *flat(sections)}  # a table is one, and each of its entries
    if key not in known:
        raise UsageError("--vary", "setting", "a known one", key, near_name(key, known))
    section = key.partition(".")[0]
    may = section in ("adapter", "train") or key in _BASE
    if not may or of_loss([key]):
        allowed = "one of [adapter] or [train] that leaves rows, tokens and loss as they are"
        raise UsageError(
            "--vary", key, allowed, text, "validation losses of others can't be compared: train them apart"
        )
    return key, found
