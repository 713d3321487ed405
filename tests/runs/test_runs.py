"""Run folders and the run log."""

from __future__ import annotations

import os
from pathlib import Path

import pytest

from foldkit.formats import InputError, UsageError
from foldkit.runs import LogWriter, RunFolder, new_run, newest_run, read_log


def finished(run: RunFolder, when: int) -> RunFolder:
    LogWriter(run.log).write("step", step=1, loss=2.0)
    run.sheet.write_text("{}")
    os.utime(run.sheet, (when, when))
    return run


def test_runs_are_numbered_and_never_overwritten(tmp_path: Path) -> None:
    """The next free number, a name of one's own once, and the newest by its time."""
    with pytest.raises(InputError, match="train first"):
        newest_run(tmp_path / "runs")
    first, second, named = (
        finished(new_run(tmp_path / "runs", name), when) for name, when in (("", 30), ("", 20), ("mine", 10))
    )
    assert [run.path.name for run in (first, second, named)] == ["run-001", "run-002", "mine"]
    assert newest_run(tmp_path / "runs") == first
    with pytest.raises(UsageError, match="a name not taken"):
        new_run(tmp_path / "runs", "mine")
    with pytest.raises(UsageError, match="letters"):
        new_run(tmp_path / "runs", "../mine")


def test_a_log_is_read_while_it_is_written(tmp_path: Path) -> None:
    """Events by kind, figures by step; a half-written last line is passed over, unknown events do no harm."""
    path = tmp_path / "log.jsonl"
    writer = LogWriter(path)
    writer.write("step", step=1, loss=2.0)
    writer.write("weather", wind="west")
    writer.write("step", step=2, loss=1.5)
    with path.open("a") as file:
        file.write('{"event": "step", "st')
    log = read_log(path)
    assert log.series("step", "loss") == ([1, 2], [2.0, 1.5])
    assert log.series("step", "unknown") == ([], [])
    assert len(log.of("weather")) == 1
