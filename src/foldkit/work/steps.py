"""The steps of a sheet before scoring: split, build, train. They print nothing; progress goes to a callback."""

from __future__ import annotations

import dataclasses
import functools
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
    SplitSettings,
    assign_parts,
    build_dataset,
    check_pairs,
    find_leaks,
    pairs_of,
    parts_of_keys,
    read_assignment,
    read_built,
    row_keys,
    too_few,
    write_assignment,
)
from foldkit.datasets.checks import read_findings, write_findings
from foldkit.datasets.pairs import texts_of
from foldkit.datasets.splitting import check_files, check_parts, counts
from foldkit.formats import InputError, write_aside
from foldkit.rows import find_files
from foldkit.rows.near import near_pairs
from foldkit.runs import LogWriter, RunFolder, new_run, read_log

from .inputs import Inputs, open_inputs
from .sheet import Sheet

if TYPE_CHECKING:
    from foldkit.training.events import TrainEvent

OnEvent = Callable[["TrainEvent"], None]


@dataclass(frozen=True)
class Split:
    """The part of every row, what leaks from train, and what would if every row were split by itself."""

    parts: pd.Series[Any]
    leaks: tuple[Leak, ...]
    leaks_ungrouped: tuple[Leak, ...]


def split(sheet: Sheet) -> Split:
    """Assign every row to its part, and look for rows outside train that stand in train too."""
    inputs = open_inputs(sheet)
    pairs = pairs_of(inputs.table, inputs.template)
    alike = near_pairs(texts_of(pairs), sheet.split.near)
    parts = _assigned(sheet, inputs).parts
    check_parts(counts(list(parts)), sheet.split)
    leaks = find_leaks(pairs, parts, alike)
    ungrouped = leaks
    if sheet.split.group:
        alone = dataclasses.replace(sheet.split, group="", files={})
        ungrouped = find_leaks(pairs, assign_parts(inputs.table, alone, pairs), alike)
    return Split(parts, tuple(leaks), tuple(ungrouped))


def check(sheet: Sheet, inputs: Inputs | None = None, dataset: Dataset | None = None) -> list[Finding]:
    """Check what a model would learn from the rows, and whether train has enough of them.

    What was found is kept beside the built dataset and read back until that changes.
    """
    inputs = inputs or open_inputs(sheet)
    dataset = dataset or build(sheet, inputs)
    kept_at, made_from = sheet.path("built") / "findings.json", [inputs.made_from, sheet.split.near]
    kept = read_findings(kept_at, made_from)
    if kept is None:
        kept = check_pairs(pairs_of(inputs.table, inputs.template), sheet.split.near)
        write_findings(kept_at, made_from, kept)
    few = too_few(len(dataset.parts["train"]))
    return kept + ([few] if few else [])


def build(sheet: Sheet, inputs: Inputs | None = None) -> Dataset:
    """Build the dataset into the folder `built` beside the sheet, or open it when nothing changed."""
    inputs = inputs or open_inputs(sheet)
    made_from, folder = inputs.made_from, sheet.path("built")
    dataset = read_built(folder, made_from)
    if dataset is not None:
        return dataset
    if sheet.split.by_row:
        own = functools.partial(_own_parts, sheet.split)
        return build_dataset(inputs.stream(), inputs.coder, own, folder, made_from, sheet.split)
    assigned = _assigned(sheet, inputs)
    dataset = build_dataset(
        inputs.stream(), inputs.coder, lambda table: assigned.parts.loc[table.index], folder, made_from, sheet.split
    )
    if sheet.split.keeps:
        write_assignment(folder, sheet.split, assigned.keys["content"], assigned.parts)
    return dataset


def _own_parts(settings: SplitSettings, table: pd.DataFrame) -> pd.Series[Any]:
    """Return the parts of rows that can be told from each row alone."""
    return parts_of_keys(row_keys(table, settings), settings)


@dataclass(frozen=True)
class _Assigned:
    keys: pd.DataFrame
    parts: pd.Series[Any]


def _assigned(sheet: Sheet, inputs: Inputs) -> _Assigned:
    """Assign all rows in a pass of their own, which keeps only the keys of each."""
    check_files(sheet.split, [] if sheet.rows.shape else find_files(sheet.rows.source, sheet.folder))
    chunks = (chunk for chunk in inputs.stream() if not chunk.table.empty)
    keys = pd.concat([row_keys(chunk.table, sheet.split, chunk.files) for chunk in chunks])
    pairs = pairs_of(inputs.table, inputs.template) if sheet.split.group == "near" else None
    known = read_assignment(sheet.path("built"), sheet.split) if sheet.split.keeps else None
    return _Assigned(keys, parts_of_keys(keys, sheet.split, pairs, known))


def train(sheet: Sheet, name: str = "", on_event: OnEvent | None = None) -> RunFolder:
    """Train an adapter into a new run folder under `runs` beside the sheet.

    The folder gets the sheet, the log as it happens, the adapter whenever validation improves, and the curve.
    """
    from foldkit.adapters import AdapterHeader, attach, save_adapter
    from foldkit.curves import save_picture
    from foldkit.models import chosen_compute, open_base
    from foldkit.training import Checked, train_adapter

    inputs = open_inputs(sheet)
    dataset = build(sheet, inputs)
    compute = chosen_compute(sheet.base.compute)
    base = open_base(sheet.base_path(), compute.dtype, sheet.base.weights)
    if sheet.train.window > base.decoder.spec.max_positions:
        room = base.decoder.spec.max_positions
        raise InputError("[train]", "window", f"at most the base's {room}", sheet.train.window, "lower the window")
    run = new_run(sheet.path("runs"), name)
    _write_sheet(dataclasses.replace(sheet, base=dataclasses.replace(sheet.base, compute=compute.name)), run)
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
        sheet.base.weights,
        compute.name,
    )
    log = LogWriter(run.log)
    measured = (f"computes in {compute.name}: {compute.reason}",) if sheet.base.compute == "auto" else ()
    for note in (*base.notes, *measured):
        log.write("note", says=note)
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
