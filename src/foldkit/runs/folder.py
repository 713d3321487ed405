"""A run's folder and what stands in it."""

from __future__ import annotations

import contextlib
import json
import re
from collections.abc import Iterable, Mapping
from dataclasses import dataclass
from pathlib import Path
from typing import Any

from foldkit.formats import (
    InputError,
    UsageError,
    fingerprint_files,
    read_json,
    read_jsonl,
    seal,
    unsealed,
    write_aside,
    write_jsonl,
)

_SCORE_ANEW = "score anew: foldkit score"


@dataclass(frozen=True)
class RunFolder:
    """The places of one run."""

    path: Path

    @property
    def adapter(self) -> Path:
        """The best adapter by validation loss."""
        return self.path / "adapter.safetensors"

    @property
    def log(self) -> Path:
        """The run log."""
        return self.path / "log.jsonl"

    @property
    def sheet(self) -> Path:
        """The sheet with every setting resolved, as JSON."""
        return self.path / "sheet.json"

    @property
    def checkpoints(self) -> Path:
        """The folder of checkpoints."""
        return self.path / "checkpoints"

    @property
    def lock(self) -> Path:
        """The file that is locked while a training is at work in the run."""
        return self.path / ".lock"

    @property
    def stop(self) -> Path:
        """The file that asks the training at work in the run to stop after its step."""
        return self.path / ".stop"

    @property
    def plan(self) -> Path:
        """The plan of a folder that stands for several runs with varied settings."""
        return self.path / "plan.json"

    @property
    def rows(self) -> Path:
        """The figures of every scored row, as JSON lines."""
        return self.path / "rows.jsonl"

    @property
    def picks(self) -> Path:
        """The picks that a person made between answers."""
        return self.path / "picks.jsonl"

    @property
    def report(self) -> Path:
        """The page about the run."""
        return self.path / "report.html"

    @property
    def note(self) -> Path:
        """The file of what somebody noted about the run."""
        return self.path / "note.txt"

    @property
    def curve(self) -> Path:
        """The picture of the losses."""
        return self.path / "curve.png"

    @property
    def scorecard(self) -> Path:
        """The scorecard as JSON; its Markdown stands beside it."""
        return self.path / "scorecard.json"

    def read_sheet(self) -> dict[str, Any]:
        """Return the sheet with every setting resolved; raises InputError where it is missing or damaged."""
        return read_json(self.sheet, "put it back, or remove the run")

    def write_scorecard(self, card: Mapping[str, Any], rows: Iterable[Mapping[str, Any]]) -> None:
        """Write a scorecard and the figures of its rows: rows first, which the scorecard has the fingerprint of."""
        write_jsonl(self.rows, rows)
        sealed = seal({**card, "rows_fingerprint": fingerprint_files([self.rows])})
        write_aside(self.scorecard, json.dumps(sealed, indent=2, ensure_ascii=False) + "\n")

    def read_scorecard(self) -> dict[str, Any]:
        """Return the scorecard; raises InputError where it is missing, or is not as it was written."""
        card = unsealed(read_json(self.scorecard, _SCORE_ANEW))
        if card is None:
            raise InputError(self.scorecard, "scorecard", "one as it was written", "a changed one", _SCORE_ANEW)
        return card

    def read_rows(self) -> list[dict[str, Any]]:
        """Return the figures of every scored row; raises InputError unless they are those of the scorecard."""
        rows, card = read_jsonl(self.rows), self.read_scorecard()
        if card["rows_fingerprint"] != fingerprint_files([self.rows]):
            raise InputError(self.rows, "scored rows", "those of the scorecard beside them", "others", _SCORE_ANEW)
        return rows


def check_name(folder: Path, name: str) -> None:
    """Raise UsageError for a name that is no plain one, or that a run in the folder has already."""
    if name and not re.fullmatch(r"[A-Za-z0-9][A-Za-z0-9._-]*", name):
        raise UsageError("--name", "name", "letters, digits, dots, dashes", name, "choose a plain name")
    if name and (folder / name).exists():
        todo = f"choose another, or remove {folder / name}"
        raise UsageError("--name", "name", "a name not taken", name, todo)


def new_run(folder: Path, name: str = "", kind: str = "run") -> RunFolder:
    """Make a run folder; without a name it gets its kind and the next free number.

    Raises UsageError when a run of that name is there already: nothing is overwritten.
    """
    check_name(folder, name)
    try:
        folder.mkdir(parents=True, exist_ok=True)
        number = _next_number(folder, kind)
        while True:
            path = folder / (name or f"{kind}-{number:03d}")
            with contextlib.suppress(FileExistsError):
                path.mkdir()
                return RunFolder(path)
            check_name(folder, name)  # another training has taken it just now
            number += 1
    except OSError as error:
        raise InputError(folder, "folder", "a folder to write in", error.strerror, "check its rights") from None


def run_at(run: RunFolder | str | Path) -> RunFolder:
    """Return a run as it is given, or the one in this folder; raises InputError where the folder holds none."""
    if isinstance(run, RunFolder):
        return run
    found = RunFolder(Path(run))
    if not found.log.exists():
        raise InputError(
            run, "run", f"a folder with {found.log.name}", None, "name a run's folder, such as runs/run-001"
        )
    return found


def newest_run(folder: str | Path) -> RunFolder:
    """Return the run that was made last; raises InputError when there is none."""
    folder = Path(folder)
    runs = [path for path in folder.glob("*") if (path / "log.jsonl").exists()]
    if not runs:
        raise InputError(folder, "runs", "at least one run", None, "train first: foldkit train")
    return RunFolder(max(runs, key=lambda path: (path / "sheet.json").stat().st_mtime_ns))


def _next_number(folder: Path, kind: str) -> int:
    names = [re.fullmatch(rf"{kind}-(\d+)", path.name) for path in folder.iterdir()]
    return 1 + max((int(match.group(1)) for match in names if match), default=0)
