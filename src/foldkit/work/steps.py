"""The steps of a sheet before scoring: split, build, train. They print nothing; progress goes to a callback."""

from __future__ import annotations

import dataclasses
import json
import os
from collections.abc import Callable
from dataclasses import dataclass
from pathlib import Path
from typing import TYPE_CHECKING, Any

import pandas as pd

from foldkit.datasets import (
    Dataset,
    Finding,
    Leak,
    SetAside,
    assign_parts,
    build_dataset,
    check_pairs,
    find_leaks,
    pairs_of,
    read_built,
    too_few,
    write_built,
)
from foldkit.formats import InputError, fingerprint_files, fingerprint_value, write_aside
from foldkit.rows import find_files
from foldkit.runs import LogWriter, RunFolder, new_run, read_log

from .inputs import Inputs, decisions_path, open_inputs
from .sheet import Sheet

if TYPE_CHECKING:
    from foldkit.training.events import TrainEvent

OnEvent = Callable[["TrainEvent"], None]


@dataclass(frozen=True)
class Split:
    """The part of every row, what leaks from train, and what would if every row were split by itself."""

    parts: pd.Series
    leaks: tuple[Leak, ...]
    leaks_ungrouped: tuple[Leak, ...]


def split(sheet: Sheet) -> Split:
    """Assign every row to its part, and look for rows outside train that stand in train too."""
    inputs, near = open_inputs(sheet), sheet.split.near
    pairs = pairs_of(inputs.table, inputs.template)
    parts = assign_parts(inputs.table, sheet.split, pairs)
    leaks = find_leaks(pairs, parts, near)
    ungrouped = leaks
    if sheet.split.group:
        alone = dataclasses.replace(sheet.split, group="")
        ungrouped = find_leaks(pairs, assign_parts(inputs.table, alone, pairs), near)
    return Split(parts, tuple(leaks), tuple(ungrouped))


def check(sheet: Sheet, inputs: Inputs | None = None, dataset: Dataset | None = None) -> list[Finding]:
    """Check what a model would learn from the rows, and whether train has enough of them."""
    inputs = inputs or open_inputs(sheet)
    dataset = dataset or build(sheet, inputs)
    few = too_few(len(dataset.parts["train"]))
    return check_pairs(pairs_of(inputs.table, inputs.template), sheet.split.near) + ([few] if few else [])


def build(sheet: Sheet, inputs: Inputs | None = None) -> Dataset:
    """Build the dataset into the folder `built` beside the sheet, or read it back when nothing changed."""
    inputs = inputs or open_inputs(sheet)
    made_from = {
        "rows": fingerprint_files(find_files(sheet.rows.source, sheet.folder)),
        "reading": dataclasses.asdict(sheet.rows),
        "decisions": fingerprint_files([path for path in [decisions_path(sheet)] if path.exists()]),
        "template": fingerprint_value(inputs.template.as_mapping()),
        "markup": fingerprint_value(dataclasses.asdict(inputs.markup) | {"where": ""}),
        "tokenizer": inputs.side.tokenizer.fingerprint,
        "split": dataclasses.asdict(sheet.split),
        "window": sheet.train.window,
    }
    folder = sheet.path("built")
    dataset = read_built(folder, made_from)
    if dataset is None:
        dataset = build_dataset(inputs.table, inputs.template, inputs.encoder, sheet.split, sheet.train.window)
        unread = tuple(SetAside(row.row, row.reason) for row in inputs.bad)
        dataset = dataclasses.replace(dataset, set_aside=(*unread, *dataset.set_aside))
        write_built(dataset, folder, made_from)
    return dataset


def train(sheet: Sheet, name: str = "", on_event: OnEvent | None = None) -> RunFolder:
    """Train an adapter into a new run folder under `runs` beside the sheet.

    The folder gets the sheet, the log as it happens, the adapter whenever validation improves, and the curve.
    """
    from foldkit.adapters import AdapterHeader, attach, save_adapter
    from foldkit.curves import save_picture
    from foldkit.models import open_base
    from foldkit.training import Checked, train_adapter

    inputs = open_inputs(sheet)
    dataset = build(sheet, inputs)
    base = open_base(sheet.base_path())
    if sheet.train.window > base.decoder.spec.max_positions:
        room = base.decoder.spec.max_positions
        raise InputError("[train]", "window", f"at most the base's {room}", sheet.train.window, "lower the window")
    run = new_run(sheet.path("runs"), name)
    _write_sheet(sheet, run)
    adapter = attach(base.decoder, sheet.adapter)
    markup = dataclasses.asdict(inputs.markup) | {"where": "adapter file, markup"}
    header = AdapterHeader(
        sheet.adapter,
        inputs.template.as_mapping(),
        markup,
        sheet.base.model,
        base.fingerprint,
        dataset.fingerprint,
        sheet.rows.strip,
    )
    log = LogWriter(run.log)
    try:
        for event in train_adapter(
            base.decoder, adapter, dataset.parts["train"], dataset.parts["validation"], sheet.train
        ):
            name, figures = _logged(event)
            log.write(name, **figures)
            if isinstance(event, Checked) and event.best:
                save_adapter(run.adapter, adapter, header)
            if on_event:
                on_event(event)
    except BaseException as error:
        log.write("failed", reason=str(error) or type(error).__name__)
        raise
    save_picture(read_log(run.log), f"{run.path.name}: {sheet.base.model}", run.curve)
    return run


def _logged(event: TrainEvent) -> tuple[str, dict[str, Any]]:
    names = {"Started": "started", "Stepped": "step", "Checked": "validation", "Finished": "finished"}
    return names[type(event).__name__], dataclasses.asdict(event)


def _write_sheet(sheet: Sheet, run: RunFolder) -> None:
    folder = os.path.relpath(sheet.folder.resolve(), run.path.resolve())
    values = {"folder": Path(folder).as_posix(), **sheet.as_mapping()}
    write_aside(run.sheet, json.dumps(values, indent=2, ensure_ascii=False) + "\n")
