"""Checkpoints: one sealed file of tensors each, written aside and renamed; the last few stay."""

from __future__ import annotations

import json
import re
from pathlib import Path
from typing import Any

from foldkit.formats import FoldKitError, InputError
from foldkit.models.sealed import read_sealed, write_sealed

from .state import Snapshot

VERSION = 2


def write_checkpoint(folder: Path, snapshot: Snapshot, made_from: dict[str, Any], keep: int) -> Path:
    """Write a checkpoint into a folder, then drop all but the last `keep`.

    `made_from` is what a training must share to go on from it. Raises FoldKitError when it cannot be written; the ones
    before it stay whole.
    """
    path = folder / f"step-{snapshot.counts['step']:08d}.safetensors"
    values = {"version": VERSION, "counts": snapshot.counts, "made_from": made_from}
    try:
        folder.mkdir(exist_ok=True)
        write_sealed(path, snapshot.tensors, values)
        for old in saved_checkpoints(folder)[:-keep]:
            old.unlink()
    except OSError as error:
        before = saved_checkpoints(folder)
        kept = f"{before[-1].name} is whole" if before else "there is none before it"
        todo = "make room or give rights, then go on with --resume"
        raise FoldKitError(f"{path}: the checkpoint could not be written ({error.strerror}); {kept}; {todo}") from None
    return path


def saved_checkpoints(folder: Path) -> list[Path]:
    """Return the checkpoints of a folder, the last one last."""
    found = folder.glob("step-*.safetensors") if folder.is_dir() else ()
    return sorted(path for path in found if re.fullmatch(r"step-\d+\.safetensors", path.name))


def read_checkpoint(path: Path, made_from: dict[str, Any]) -> Snapshot:
    """Read a checkpoint; raises InputError for a damaged one, and for one of another training by what differs."""
    try:
        tensors, values = read_sealed(path)
        if values["version"] != VERSION:
            raise ValueError(f"this is not version {VERSION}")
        counts, before = values["counts"], values["made_from"]
    except (OSError, ValueError, KeyError) as error:
        raise InputError(
            path, "checkpoint", "a whole checkpoint", str(error), "remove it to go on from the one before"
        ) from None
    for name, value in json.loads(json.dumps(made_from)).items():
        if before.get(name) != value:
            todo = "go on with as many" if name == "processes" else "train anew, or give back what was changed"
            raise InputError(path, name, before.get(name), value, todo)
    return Snapshot(tensors, counts)
