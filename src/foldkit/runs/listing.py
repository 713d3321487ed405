"""What a run came to, from the two ends of its log alone, so that a thousand runs are listed in a moment."""

from __future__ import annotations

import mmap
from collections.abc import Mapping
from dataclasses import dataclass
from pathlib import Path
from typing import Any

from foldkit.formats import is_locked
from foldkit.formats.jsonl import read_text

from .events import readable_events
from .folder import RunFolder

# So much of either end of a log is read: a head has what a training began with, a tail how it ended.
_END_BYTES = 1 << 16
_REASONS = {"done": "finished", "no better": "finished", "out of time": "finished", "stopped": "stopped"}


@dataclass(frozen=True)
class RunSummary:
    """One run in a line: `reason` says why it ended, `seconds` how long it trained, `began` is ISO text.

    `state` is "training", "finished", "stopped", "failed" or "killed".
    """

    name: str
    state: str
    reason: str
    base: str
    n_train: int
    step: int
    n_steps: int
    best_step: int
    best_validation_loss: float | None
    seconds: float
    began: str
    note: str

    @property
    def outcome(self) -> str:
        """The state, with why it ended where that is not the usual end."""
        return self.state if self.reason in ("", "done", self.state) else f"{self.state} ({self.reason})"

    @property
    def ended(self) -> str:
        """Why the run ended: its reason, its state where it was killed or failed, "" while it is at work."""
        return self.reason if self.state in ("finished", "stopped") else self.state.replace("training", "")

    @property
    def exit_code(self) -> int:
        """What a command that followed this run ends with: 0 finished, 130 stopped, 1 failed or killed."""
        return {"finished": 0, "training": 0, "stopped": 130}.get(self.state, 1)


def list_runs(folder: Path) -> list[RunSummary]:
    """Return all runs of a folder, the one that began last at the end."""
    runs = [RunFolder(path) for path in folder.glob("*") if (path / "sheet.json").exists()]
    return sorted(map(summarise_run, runs), key=lambda run: (run.began, run.name))


def summarise_run(run: RunFolder) -> RunSummary:
    """Return what a run came to; a killed process is known by its lock, which ends with it.

    A process that only stalls holds its lock still, so it counts as training.
    """
    sheet = read_run_sheet(run)
    first, last = _ends(run.log)
    started = [event for event in (*first, *last) if event.get("event") == "started"]
    end = _end(last)
    state = _state(end) if end else "training" if is_locked(run.lock) else "killed"
    figures = [event for event in last if "step" in event]
    best = end if end and end.get("best_step") else _best_check(run.log)
    known: dict[str, Any] = started[-1] if started else {}
    return RunSummary(
        run.path.name,
        state,
        str(end.get("reason", "")) if end else "",
        str(sheet.get("base", {}).get("model", "")),
        int(known.get("n_train", 0)),
        max((int(event["step"]) for event in figures), default=0),
        int(known.get("n_steps", 0)),
        int(best.get("best_step", best.get("step", 0))),
        best.get("best_validation_loss", best.get("validation_loss")),
        max((float(event["seconds"]) for event in figures if "seconds" in event), default=0.0),
        next((str(event["time"]) for event in first if "time" in event), ""),
        read_text(run.note).strip() if run.note.exists() else "",
    )


def read_run_sheet(run: RunFolder) -> dict[str, Any]:
    """Return the sections of a run's sheet as they were resolved."""
    values = run.read_sheet()
    values.pop("folder", None)
    return values


def _end(last: list[dict[str, Any]]) -> dict[str, Any] | None:
    """Return the event that ended the run, None while nothing of that kind is its last word."""
    words = [e for e in last if e.get("event") in ("started", "resumed", "finished", "failed", "step", "validation")]
    return words[-1] if words and words[-1]["event"] in ("finished", "failed") else None


def _state(end: Mapping[str, Any]) -> str:
    return "failed" if end["event"] == "failed" else _REASONS.get(str(end.get("reason")), "finished")


def _ends(log: Path) -> tuple[list[dict[str, Any]], list[dict[str, Any]]]:
    """Return the first events up to the one that tells what began, and the last ones, from one that tells the time."""
    try:
        with log.open("rb") as file:
            head = file.read(_END_BYTES)
            size = file.seek(0, 2)
            file.seek(max(0, size - _END_BYTES))
            tail = file.read()
    except OSError:
        return [], []
    first, last = [], []
    for event in readable_events(head.split(b"\n")):
        first.append(event)
        if event.get("event") == "started":
            break
    for event in readable_events(reversed(tail.split(b"\n"))):
        last.append(event)
        if "step" in event and "seconds" in event:
            break
    return first, last[::-1]


def _best_check(log: Path) -> dict[str, Any]:
    """Return the last validation that was the best so far, looked for from the end; empty when there is none."""
    try:
        with log.open("rb") as file, mmap.mmap(file.fileno(), 0, access=mmap.ACCESS_READ) as content:
            at = content.rfind(b'"best": true')
            if at < 0:
                return {}
            begin, end = content.rfind(b"\n", 0, at) + 1, content.find(b"\n", at)
            return next(readable_events([content[begin : end if end >= 0 else len(content)]]), {})
    except (OSError, ValueError):  # no log yet, or an empty one
        return {}
