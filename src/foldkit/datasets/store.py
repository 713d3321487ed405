"""A built dataset on disk: a folder with one JSON-lines file a part and a manifest.

A line is `{"row": 12, "ids": [...], "learned": [[start, end], ...]}`; spans are half open. Rows set aside stand in
`set_aside.jsonl`, each with its reason and, where it could be read, its cells.
"""

from __future__ import annotations

import itertools
import json
from collections.abc import Mapping
from pathlib import Path
from typing import Any

from foldkit.formats import InputError, read_jsonl, write_aside, write_jsonl

from .building import Dataset, Example, SetAside
from .splitting import PARTS

VERSION = 1


def write_built(dataset: Dataset, folder: Path, inputs: Mapping[str, Any]) -> None:
    """Write the folder; `inputs` says what it was built from. The manifest comes last."""
    folder.mkdir(parents=True, exist_ok=True)
    for part, examples in dataset.parts.items():
        lines = ({"row": e.row, "ids": list(e.ids), "learned": _spans(e.learned)} for e in examples)
        write_jsonl(folder / f"{part}.jsonl", lines)
    aside = ({"row": row.row, "reason": row.reason, "cells": dict(row.cells)} for row in dataset.set_aside)
    write_jsonl(folder / "set_aside.jsonl", aside)
    manifest = {
        "version": VERSION,
        "inputs": dict(inputs),
        "fingerprint": dataset.fingerprint,
        "counts": dataset.counts(),
        "n_set_aside": len(dataset.set_aside),
        "notes": list(dataset.notes),
    }
    write_aside(folder / "manifest.json", json.dumps(manifest, indent=2, ensure_ascii=False) + "\n")


def read_built(folder: Path, inputs: Mapping[str, Any]) -> Dataset | None:
    """Read a folder back, or return None when it was built from something other than `inputs`."""
    try:
        manifest = json.loads((folder / "manifest.json").read_text(encoding="utf-8"))
    except (OSError, ValueError):
        return None
    if manifest.get("version") != VERSION or manifest.get("inputs") != dict(inputs):
        return None
    parts = {part: tuple(map(_example, read_jsonl(folder / f"{part}.jsonl"))) for part in PARTS}
    set_aside = tuple(SetAside(**row) for row in read_jsonl(folder / "set_aside.jsonl"))
    dataset = Dataset(parts, set_aside, manifest["fingerprint"], tuple(manifest["notes"]))
    if dataset.counts() != manifest["counts"] or len(set_aside) != manifest["n_set_aside"]:
        raise InputError(folder, "parts", "the counts in manifest.json", "others", "remove the folder and build again")
    return dataset


def _spans(learned: tuple[bool, ...]) -> list[list[int]]:
    spans, place = [], 0
    for flag, group in itertools.groupby(learned):
        size = len(list(group))
        if flag:
            spans.append([place, place + size])
        place += size
    return spans


def _example(line: dict[str, Any]) -> Example:
    learned = [False] * len(line["ids"])
    for start, end in line["learned"]:
        learned[start:end] = [True] * (end - start)
    return Example(line["row"], tuple(line["ids"]), tuple(learned))
