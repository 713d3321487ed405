"""The steps of a sheet before training: split, build, check. They print nothing."""

from __future__ import annotations

import dataclasses
from collections.abc import Callable
from dataclasses import dataclass
from pathlib import Path
from typing import Any

import pandas as pd

from foldkit.datasets import (
    Coded,
    Dataset,
    Finding,
    Leak,
    assign_parts,
    assignment_path,
    build_dataset,
    check_choices,
    check_pairs,
    choices_of,
    code_rows,
    find_leaks,
    pairs_of,
    parts_of_keys,
    read_assignment,
    read_built,
    row_keys,
    too_few,
    unseen_labels,
    write_assignment,
)
from foldkit.datasets.checks import CHECKS_VERSION, read_findings, write_findings
from foldkit.datasets.pairs import texts_of
from foldkit.datasets.splitting import check_files, check_parts, counts
from foldkit.formats import fingerprint_files, fingerprint_value, locked
from foldkit.rows import find_files
from foldkit.rows.near import near_texts

from .inputs import Inputs, open_inputs
from .sheet import Sheet


@dataclass(frozen=True)
class Split:
    """The part of every row, what leaks from train, and what would if every row were split by itself."""

    parts: pd.Series[Any]
    leaks: tuple[Leak, ...]
    leaks_ungrouped: tuple[Leak, ...]


def split(sheet: Sheet, inputs: Inputs | None = None) -> Split:
    """Assign every row to its part, and look for rows outside train that stand in train too."""
    inputs = inputs or open_inputs(sheet)
    pairs = pairs_of(inputs.table, inputs.template)
    near = near_texts(texts_of(pairs), sheet.split.near)
    parts = _assigned(sheet, inputs).parts
    check_parts(counts(list(parts)), sheet.split)
    leaks = find_leaks(pairs, parts, near)
    ungrouped = leaks
    if sheet.split.group:
        alone = dataclasses.replace(sheet.split, group="", files={})
        ungrouped = find_leaks(pairs, assign_parts(inputs.table, alone, pairs), near)
    return Split(parts, tuple(leaks), tuple(ungrouped))


def check(sheet: Sheet, inputs: Inputs | None = None, dataset: Dataset | None = None) -> list[Finding]:
    """Check what a model would learn from the rows, and whether train has enough of them.

    What was found is kept beside the built dataset and read back until that changes.
    """
    inputs = inputs or open_inputs(sheet)
    dataset = dataset or build(sheet, inputs)
    kept_at = sheet.path("built") / "findings.json"
    made_from = [inputs.made_from, sheet.split.near, CHECKS_VERSION]
    kept = read_findings(kept_at, made_from)
    if kept is None:
        pairs = pairs_of(inputs.table, inputs.template)
        rows = {name: part.rows.tolist() for name, part in dataset.parts.items()}
        unseen = unseen_labels(pairs, rows["train"], rows["validation"] + rows["test"])
        kept = check_pairs(pairs, sheet.split.near) + ([unseen] if unseen else [])
        if inputs.template.rejected_slots():
            choices = choices_of(inputs.table, inputs.template)
            either = sheet.train.either
            kept += check_choices({row: c for row, c in choices.items() if either or (c.chosen and c.rejected)})
        write_findings(kept_at, made_from, kept)
    few = too_few(len(dataset.parts["train"]))
    return kept + ([few] if few else [])


def build(sheet: Sheet, inputs: Inputs | None = None, on_rows: Callable[[int], None] | None = None) -> Dataset:
    """Build the dataset into the folder `built` beside the sheet, or open it when nothing changed.

    While another process builds there, this waits for it. `on_rows` hears of each chunk of rows how many they are.
    """
    inputs = inputs or open_inputs(sheet)
    made_from, folder = inputs.made_from, sheet.path("built")
    if dataset := read_built(folder, made_from):
        return dataset
    folder.mkdir(parents=True, exist_ok=True)
    with locked(folder / "lock", patient=True):
        return read_built(folder, made_from) or _built(sheet, inputs, folder, on_rows)


def parts_fingerprint(sheet: Sheet, inputs: Inputs) -> str:
    """Return the fingerprint of what tells which row is in which part, whatever template and base that is for."""
    told = {name: inputs.made_from[name] for name in ("rows", "reading", "decisions", "split")}
    told["reading"] = {name: value for name, value in told["reading"].items() if name != "source"}
    stored = assignment_path(sheet.path("built"))
    if sheet.split.keeps and stored.exists():  # it hangs on which rows were there before, too
        told["stored"] = fingerprint_files([stored])
    return fingerprint_value(told)


def _built(sheet: Sheet, inputs: Inputs, folder: Path, on_rows: Callable[[int], None] | None) -> Dataset:
    made_from, decided = inputs.made_from, inputs.decisions()
    assigned = None if sheet.split.by_row else _assigned(sheet, inputs)

    def parts_of(table: pd.DataFrame) -> pd.Series[Any]:
        if assigned:
            return assigned.parts.loc[table.index]
        return parts_of_keys(row_keys(table, sheet.split), sheet.split)

    def notes() -> list[str]:
        rows = ", ".join(map(str, decided.left))
        return [f"decisions not applied, for their rows are no longer as they were: row {rows}"] if rows else []

    rows = inputs.stream(decided)
    dataset = build_dataset(rows, inputs.coder, parts_of, folder, made_from, sheet.split, notes, on_rows)
    if assigned and sheet.split.keeps:
        write_assignment(folder, sheet.split, assigned.keys["content"], assigned.parts)
    return dataset


def read_test_part(sheet: Sheet, base_at: Path, room: int) -> Coded:
    """Return what the test part of a sheet is to another base that has room for so many tokens; nothing is written."""
    sheet = dataclasses.replace(sheet, base=dataclasses.replace(sheet.base, model=str(base_at.resolve())))
    inputs = open_inputs(sheet)
    parts = _assigned(sheet, inputs).parts
    coder = dataclasses.replace(inputs.coder, window=room, paired=False, either=False)
    return code_rows(inputs.table[parts == "test"], coder)


@dataclass(frozen=True)
class _Assigned:
    keys: pd.DataFrame
    parts: pd.Series[Any]


def _assigned(sheet: Sheet, inputs: Inputs) -> _Assigned:
    """Assign all rows in a pass of their own, which keeps only the keys of each."""
    check_files(sheet.split, find_files(sheet.rows, sheet.folder))
    chunks = (chunk for chunk in inputs.stream() if not chunk.table.empty)
    keys = pd.concat([row_keys(c.table, sheet.split, c.paths if sheet.split.files else ()) for c in chunks])
    pairs = pairs_of(inputs.table, inputs.template) if sheet.split.group == "near" else None
    known = read_assignment(sheet.path("built"), sheet.split) if sheet.split.keeps else None
    return _Assigned(keys, parts_of_keys(keys, sheet.split, pairs, known))
