"""The run log: JSON lines, an event each.

Every line has `event` (`note`, `started`, `step`, `skipped`, `validation`, `resumed`, `finished`, `failed`); the other
keys are its figures.
"""

from __future__ import annotations

import datetime
from dataclasses import dataclass
from pathlib import Path
from typing import Any

from foldkit.formats import append_jsonl, read_jsonl, write_jsonl

VERSION = 1


class LogWriter:
    """Appends events as they happen, so that a reader can follow."""

    def __init__(self, path: Path) -> None:
        self.path = path

    def write(self, event: str, **figures: Any) -> None:
        """Append one event with the time of day it happened."""
        now = datetime.datetime.now(datetime.UTC).isoformat(timespec="seconds")
        append_jsonl(self.path, {"event": event, "time": now, **figures})


@dataclass(frozen=True)
class RunLog:
    """A run's events, in order."""

    events: tuple[dict[str, Any], ...]

    def of(self, event: str) -> list[dict[str, Any]]:
        """Return the events of one kind."""
        return [line for line in self.events if line.get("event") == event]

    def series(self, event: str, figure: str) -> tuple[list[int], list[float]]:
        """Return the steps and the values of one figure."""
        lines = [line for line in self.of(event) if figure in line]
        return [line["step"] for line in lines], [line[figure] for line in lines]


def cut_log(path: Path, step: int) -> None:
    """Drop events of later steps than this one, and what was said of an end."""
    kept = [
        line
        for line in read_jsonl(path, tolerate_half_line=True)
        if line.get("step", 0) <= step and line.get("event") not in ("finished", "failed")
    ]
    write_jsonl(path, kept)


def read_log(path: Path) -> RunLog:
    """Read a log; a half-written last line is passed over, so a log that is being written can be read."""
    return RunLog(tuple(read_jsonl(path, tolerate_half_line=True)))
