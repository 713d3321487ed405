"""What is done with runs that are there: notes, a stop, deletion, and a record of each for a table."""

from __future__ import annotations

import dataclasses
import json
import shutil
from typing import Any

from foldkit.formats import InputError, is_locked, write_aside

from .differences import flat
from .folder import RunFolder
from .listing import read_run_sheet, summarise_run


def write_note(run: RunFolder, text: str) -> None:
    """Keep a note with a run in the place of the one before; an empty text takes it away."""
    if text.strip():
        write_aside(run.note, text.strip() + "\n")
    else:
        run.note.unlink(missing_ok=True)


def ask_to_stop(run: RunFolder) -> None:
    """Ask the training at work in a run to save and stop after its step. Raises InputError when there is none."""
    if not is_locked(run.lock):
        state = summarise_run(run).state
        raise InputError(run.path.name, "state", "a training at work", state, "there is nothing to stop")
    run.stop.touch()


def delete_run(run: RunFolder) -> None:
    """Remove a run's folder and all in it. Raises InputError while a training is at work there."""
    if is_locked(run.lock):
        todo = f"stop it first: foldkit runs stop {run.path.name}"
        raise InputError(run.path.name, "state", "a run that has ended", "training", todo)
    try:
        shutil.rmtree(run.path)
    except OSError as error:  # which names a file without its folder
        raise OSError(error.errno, error.strerror, str(run.path)) from None


def record(run: RunFolder) -> dict[str, Any]:
    """Return what a run came to, the adapter's figures of its scorecard, and every setting, in one flat mapping.

    Lists are written as JSON, so that every value fits a cell.
    """
    settings = {
        key: json.dumps(value, ensure_ascii=False) if isinstance(value, list) else value
        for key, value in flat(read_run_sheet(run)).items()
    }
    return dataclasses.asdict(summarise_run(run)) | scores(run) | settings


def scores(run: RunFolder) -> dict[str, float]:
    """Return the adapter's figure of each measure as `score MEASURE`; nothing without a scorecard."""
    if not run.scorecard.exists():
        return {}
    contenders = run.read_scorecard()["contenders"]
    measures = [c["measures"] for c in contenders if c["name"] == "adapter"]
    return {f"score {name}": float(figure["value"]) for found in measures for name, figure in found.items()}
