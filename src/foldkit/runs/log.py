"""The run log: JSON lines, an event each; `docs/log.md` tells what stands in them.

Figures have nine significant digits, which is all that float32 holds; what is no number is null, as JSON asks.
"""

from __future__ import annotations

import datetime
import math
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

import numpy as np
import pyarrow as pa
import pyarrow.compute
import pyarrow.json

from foldkit.formats import InputError, append_jsonl, write_jsonl
from foldkit.formats.jsonl import readable_objects

from .events import readable_events
from .long_log import read_long_log

VERSION = 1
_DIGITS = 9
_BLOCK = 8 << 20


class LogWriter:
    """Appends events as they happen, so that a reader can follow; the first one tells the version."""

    def __init__(self, path: Path) -> None:
        self.path = path

    def write(self, event: str, **figures: Any) -> None:
        """Append one event with the time of day it happened."""
        if not self.path.exists():
            self._append("log", {"version": VERSION})
        self._append(event, figures)

    def _append(self, event: str, figures: Mapping[str, Any]) -> None:
        now = datetime.datetime.now(datetime.UTC).isoformat(timespec="seconds")
        append_jsonl(self.path, {"event": event, "time": now, **{k: _written(v) for k, v in figures.items()}})


@dataclass(frozen=True)
class RunLog:
    """A run's events, in order: a line of `table` for each, a column for each key, null where an event has none."""

    table: pa.Table
    _kinds: dict[str, pa.Table] = field(default_factory=dict, repr=False, compare=False)

    @classmethod
    def of_events(cls, events: Sequence[Mapping[str, Any]]) -> RunLog:
        """Return the log of these events; values whose types don't agree within a key are left out."""
        keys = dict.fromkeys(("event", "step", *(key for event in events for key in event)))
        columns = {key: _column([event.get(key) for event in events]) for key in keys}
        return cls(pa.table(columns))

    @property
    def events(self) -> list[dict[str, Any]]:
        """All events as mappings, without what is null."""
        return [{key: value for key, value in line.items() if value is not None} for line in self.table.to_pylist()]

    def of(self, event: str) -> list[dict[str, Any]]:
        """Return the events of one kind."""
        return RunLog(self._kind(event)).events

    def last(self, event: str) -> dict[str, Any]:
        """Return the last event of one kind, empty when there is none."""
        table = self._kind(event)
        return RunLog(table.slice(max(0, len(table) - 1))).events[-1] if len(table) else {}

    def others(self) -> list[dict[str, Any]]:
        """Return the events that are no steps."""
        return RunLog(self.table.filter(pa.compute.not_equal(self.table.column("event"), "step"))).events

    def series(self, event: str, figure: str) -> tuple[list[Any], list[Any]]:
        """Return the steps and the values of one figure, where it has one."""
        steps, values = self.values(event, "step", figure)
        return steps, values

    def values(self, event: str, *figures: str) -> list[list[Any]]:
        """Return several figures of one kind of event, of those lines that have all of them."""
        return [array.tolist() for array in self.arrays(event, *figures)]

    def arrays(self, event: str, *figures: str) -> list[np.ndarray]:
        """Return the same as arrays."""
        table = self._kind(event)
        if any(figure not in table.column_names for figure in figures):
            return [np.zeros(0) for _ in figures]
        table = table.select(list(dict.fromkeys(figures))).drop_null()
        return [table.column(figure).to_numpy() for figure in figures]

    def _kind(self, event: str) -> pa.Table:
        if event not in self._kinds:
            self._kinds[event] = self.table.filter(pa.compute.equal(self.table.column("event"), event))
        return self._kinds[event]


def cut_log(path: Path, step: int, checked_step: int) -> None:
    """Drop events of later steps than this one, validations after `checked_step`, and what was said of an end.

    So are lines that are no event, as a disk that was full may leave one.
    """
    lasts = {"finished": -1, "failed": -1, "validation": checked_step}
    with path.open("rb") as file:
        lines = list(readable_events(file))
    write_jsonl(path, [line for line in lines if line.get("step", 0) <= lasts.get(str(line.get("event")), step)])


def read_log(path: str | Path, figures: Sequence[str] = (), long: int = 1 << 25) -> RunLog:
    """Read a log; with `figures`, of one of more than `long` bytes only step and those, which is much faster.

    A half-written last line is passed over, so a log that is being written can be read; so are lines that are no JSON
    object, as a disk that was full may leave one. Raises InputError when there is no such file.
    """
    path = Path(path)
    try:
        size = path.stat().st_size
        content = pa.memory_map(str(path)).read_buffer() if size else pa.py_buffer(b"")
    except OSError as error:
        raise InputError(path, "run log", "a log that can be read", error.strerror, "name a run") from None
    whole = content.slice(0, _end_of_last_line(content))
    if figures and size > long:
        found = read_long_log(whole, figures)
        if found:
            steps, others = found
            return RunLog(pa.concat_tables([steps, RunLog.of_events(others).table], promote_options="permissive"))
    try:
        return RunLog(_read_json(whole))
    except pa.ArrowInvalid:  # an empty log, or one with lines of other programs' making
        return RunLog.of_events(list(readable_objects(whole.to_pybytes().split(b"\n"))))


def _read_json(content: pa.Buffer) -> pa.Table:
    schema = pa.schema([("event", pa.string()), ("time", pa.string()), ("step", pa.int64())])
    parse = pyarrow.json.ParseOptions(explicit_schema=schema)
    return pyarrow.json.read_json(pa.BufferReader(content), pyarrow.json.ReadOptions(block_size=_BLOCK), parse)


def _end_of_last_line(content: pa.Buffer) -> int:
    """Return where the last line that has its end does end, or all where what stands after it is whole."""
    view = memoryview(content)
    start = end = len(view)
    while start and view[start - 1] != ord("\n"):
        start -= 1
    return end if start < end and any(readable_objects([bytes(view[start:])])) else start


def _written(value: Any) -> Any:
    if isinstance(value, float):
        return float(f"{value:.{_DIGITS}g}") if math.isfinite(value) else None
    return value


def _column(values: list[Any]) -> pa.Array:
    """Return the values as a column; where their types don't agree, of the commonest one, the others null."""
    try:
        return pa.array(values)
    except (pa.ArrowInvalid, pa.ArrowTypeError):
        kinds = [type(value) for value in values if value is not None]
        kind = max(dict.fromkeys(kinds), key=kinds.count)
        return pa.array([value if type(value) is kind else None for value in values])
