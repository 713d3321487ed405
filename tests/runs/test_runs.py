"""Run folders and the run log."""

from __future__ import annotations

import dataclasses
import errno
import json
import os
import subprocess
import sys
from pathlib import Path
from typing import Any

import pandas as pd
import pytest

from foldkit.formats import FoldKitError, InputError, UsageError, is_locked, locked, write_jsonl
from foldkit.runs import (
    LogWriter,
    RunFolder,
    ask_to_stop,
    cut_log,
    delete_run,
    differing,
    list_runs,
    new_run,
    newest_run,
    of_data,
    of_loss,
    read_log,
    record,
    run_at,
    summarise_run,
    write_note,
)


def finished(run: RunFolder, when: int) -> RunFolder:
    LogWriter(run.log).write("step", step=1, loss=2.0)
    run.sheet.write_text("{}")
    os.utime(run.sheet, (when, when))
    return run


def test_runs_are_numbered_and_never_overwritten(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    """The next free number, also where another training took it just now; a name once; and the newest by its time."""
    with pytest.raises(InputError, match="train first"):
        newest_run(tmp_path / "runs")
    first, second, named = (
        finished(new_run(tmp_path / "runs", name), when) for name, when in (("", 30), ("", 20), ("mine", 10))
    )
    assert [run.path.name for run in (first, second, named)] == ["run-001", "run-002", "mine"]
    assert newest_run(str(tmp_path / "runs")) == first == run_at(str(first.path)) == run_at(first)
    with pytest.raises(InputError, match="name a run's folder"):
        run_at(tmp_path)
    with pytest.raises(UsageError, match="a name not taken"):
        new_run(tmp_path / "runs", "mine")
    with pytest.raises(UsageError, match="letters"):
        new_run(tmp_path / "runs", "../mine")
    monkeypatch.setattr("foldkit.runs.folder._next_number", lambda *_: 1)
    assert new_run(tmp_path / "runs").path.name == "run-003"


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


def test_a_log_tells_its_version_and_is_plain_json(tmp_path: Path) -> None:
    """What is no number is null, so that every reader of JSON lines can read it; one call makes a table of it."""
    writer = LogWriter(tmp_path / "log.jsonl")
    writer.write("step", step=1, loss=1 / 3, gradient_norm=float("nan"))
    first, second = (json.loads(line, parse_constant=pytest.fail) for line in writer.path.read_text().splitlines())
    assert (first["event"], first["version"]) == ("log", 1)
    assert (second["loss"], second["gradient_norm"]) == (0.333333333, None)
    assert pd.read_json(writer.path, lines=True).loss.tolist()[1] == pytest.approx(1 / 3, rel=1e-8)
    with pytest.raises(InputError, match="No such file"):
        read_log(tmp_path / "none.jsonl")


@pytest.mark.parametrize(
    "planted", ["", '{"event": "step", "st{"event": "failed", "reason": "full"}', "[1]", '{"event": "x"']
)
def test_lines_that_are_no_event_do_no_harm(tmp_path: Path, planted: str) -> None:
    """A line that a full disk broke, a list, a half: the others are read, in order."""
    writer = LogWriter(tmp_path / "log.jsonl")
    writer.write("step", step=1, loss=2.0)
    with writer.path.open("a") as file:
        file.write(planted + "\n")
    writer.write("step", step="two", loss=[1])
    writer.write("step", step=3, loss=1.0)
    assert read_log(writer.path).of("step")[0]["loss"] == 2.0
    assert read_log(writer.path).events[-1]["step"] == 3
    assert read_log(tmp_path / "log.jsonl").last("nothing") == {}
    run = ended(tmp_path, "run", STARTED, *STEPS, {**CHECK, "validation_loss": "low"}, {**STEPS[1], "seconds": None})
    assert (summarise_run(run).step, summarise_run(run).seconds, summarise_run(run).best_validation_loss) == (
        2,
        4.0,
        None,
    )
    cut_log(writer.path, 1, 1)
    assert [event["step"] for event in read_log(writer.path).events if "step" in event] == [1]


def test_a_long_log_is_read_as_any_other(tmp_path: Path) -> None:
    """The fast way gives the same figures and events; a log of another form falls back to the plain way."""
    writer = LogWriter(tmp_path / "log.jsonl")
    writer.write("started", step=0, n_steps=40)
    for step in range(1, 41):
        writer.write("step", step=step, loss=3.0 / step, norm=None if step == 7 else 1e-5 * step, to_go=1.0)
        if step % 10 == 0:
            writer.write("validation", step=step, validation_loss=1.0 / step, best=True)
    writer.write("skipped", step=40, reason="bad, very bad", rows=[1, 2])
    fast, plain = read_log(writer.path, ("loss", "norm"), long=0), read_log(writer.path)
    for figure in ("loss", "norm"):
        assert fast.series("step", figure) == plain.series("step", figure)
    assert len(fast.series("step", "norm")[0]) == 39
    assert fast.others() == plain.others()
    assert "to_go" not in fast.table.column_names
    lines = writer.path.read_text().splitlines(keepends=True)
    for other in (
        '{"step": 41, "event": "step", "time": "", "loss": 0.5, "norm": 1, "to_go": 1}\n',
        lines[2].replace("step", "leap", 1),
    ):
        writer.path.write_text("".join([*lines, other]))
        again = read_log(writer.path, ("loss",), long=0)
        assert len(again.events) == len(lines) + 1
        assert again.series("step", "loss") == read_log(writer.path).series("step", "loss")


def ended(folder: Path, name: str, *events: dict[str, Any], **train: Any) -> RunFolder:
    run = new_run(folder, name)
    run.sheet.write_text(json.dumps({"folder": "..", "base": {"model": "b"}, "train": train}))
    writer = LogWriter(run.log)
    for event in events:
        writer.write(**event)
    return run


STARTED = {"event": "started", "step": 0, "n_steps": 4, "n_train": 9}
STEPS = [{"event": "step", "step": n, "loss": 1.0 / n, "seconds": 2.0 * n} for n in (1, 2)]
CHECK = {"event": "validation", "step": 2, "validation_loss": 0.7, "best": True, "seconds": 4.5}
DONE = {"event": "finished", "step": 4, "reason": "done", "best_step": 3, "best_validation_loss": 0.5, "seconds": 9.0}


def test_the_list_tells_the_true_state(tmp_path: Path) -> None:
    """Finished, stopped, failed and killed by the log's end; at work by the lock alone, though nothing is written."""
    ended(tmp_path, "done", STARTED, *STEPS, CHECK, DONE, {"event": "note", "says": "x" * 20000})
    ended(tmp_path, "stopped", STARTED, *STEPS, CHECK, {**DONE, "step": 2, "reason": "stopped", "best_step": 0})
    ended(tmp_path, "failed", STARTED, *STEPS, {"event": "failed", "reason": "no room"})
    killed = ended(tmp_path, "killed", STARTED, *STEPS, CHECK)
    ended(tmp_path, "went-on", STARTED, *STEPS, CHECK, {"event": "resumed", "step": 2})
    new_run(tmp_path, "no-log").sheet.write_text("{}")
    found = {run.name: run for run in list_runs(tmp_path)}
    states = {name: run.state for name, run in found.items()}
    assert states == {"done": "finished", "stopped": "stopped", "failed": "failed"} | dict.fromkeys(
        ("killed", "went-on", "no-log"), "killed"
    )
    assert [found[name].exit_code for name in ("done", "stopped", "failed", "killed")] == [0, 130, 1, 1]
    said = [found[name].outcome for name in ("done", "stopped", "failed", "killed")]
    assert said == ["finished", "stopped", "failed (no room)", "killed"]
    assert dataclasses.replace(found["done"], reason="no better").outcome == "finished (no better)"
    done = found["done"]
    assert (done.best_step, done.best_validation_loss, done.step, done.seconds, done.n_train) == (3, 0.5, 4, 9.0, 9)
    assert (found["killed"].best_step, found["killed"].best_validation_loss, found["killed"].step) == (2, 0.7, 2)
    assert not is_locked(killed.lock)
    holds = "import sys, filelock; lock = filelock.FileLock(sys.argv[1]); lock.acquire()"
    waits = f"{holds}; print('held', flush=True); input()"
    with subprocess.Popen([sys.executable, "-c", waits, killed.lock], stdin=-1, stdout=-1, text=True) as holder:
        assert holder.stdout
        assert holder.stdout.readline() == "held\n"
        assert summarise_run(killed).state == "training"
        with pytest.raises(FoldKitError, match="another process"), locked(killed.lock):
            pass
        holder.kill()
    assert summarise_run(killed).state == "killed"


def unlink_refused(name: str, *, dir_fd: int | None = None) -> None:
    """Refuse as the system does, which knows the name within the folder alone."""
    raise OSError(errno.EROFS, os.strerror(errno.EROFS), "log.jsonl")


def test_runs_are_noted_stopped_deleted_and_recorded(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    """A note stays and goes; only a training at work is stopped, only one that ended is deleted; a record is flat."""
    run = ended(tmp_path, "a", STARTED, *STEPS, CHECK, DONE, epochs=2.0, names=["q"])
    write_note(run, " rank 8 was too much \n")
    run.write_scorecard({"contenders": [{"name": "adapter", "measures": {"exact": {"value": 0.5}}}]}, [])
    kept = record(run)
    assert (kept["note"], kept["train.epochs"], kept["train.names"]) == ("rank 8 was too much", 2.0, '["q"]')
    assert kept["score exact"] == 0.5
    write_note(run, "")
    assert summarise_run(run).note == ""
    with pytest.raises(InputError, match="nothing to stop"):
        ask_to_stop(run)
    with monkeypatch.context() as patch:
        patch.setattr(os, "unlink", unlink_refused)
        with pytest.raises(OSError, match=f"Read-only file system: '{run.path}'"):
            delete_run(run)
    delete_run(run)
    assert list_runs(tmp_path) == []


def test_a_scorecard_stands_as_it_was_written(tmp_path: Path) -> None:
    """Figures and answers that were changed by hand, and answers of another scoring, are not taken for measured."""
    run, answers = RunFolder(tmp_path), [{"row": 3, "answer": "wind"}]
    card = {"contenders": [{"name": "adapter", "measures": {"exact": {"value": 0.5}}}], "by_counts": {"10": 1, "9": 2}}
    run.write_scorecard(card, answers)
    assert run.read_rows() == answers
    assert run.read_scorecard().items() > card.items()
    as_written = run.scorecard.read_text()
    for changed in (as_written.replace("0.5", "0.6"), as_written.replace('"contenders"', '"contender"'), "{}"):
        run.scorecard.write_text(changed)
        with pytest.raises(InputError, match=r"scorecard.json: scorecard: expected one as it was written.*score anew"):
            run.read_scorecard()
    run.scorecard.write_text(as_written)
    write_jsonl(run.rows, [{"row": 3, "answer": "Wind"}])
    with pytest.raises(InputError, match=r"rows.jsonl: scored rows: expected those of the scorecard beside them"):
        run.read_rows()


def test_only_what_differs_is_told() -> None:
    """Nested settings by `section.key`; one that a sheet lacks counts."""
    first, second = {"train": {"epochs": 2, "batch": 8}}, {"train": {"epochs": 3, "batch": 8}, "note": ""}
    assert differing([first, second]) == {"train.epochs": [2, 3], "note": [None, ""]}
    assert differing([first, first]) == {}
    settings = ["adapter.rank", "split.seed", "train.window", "train.seed", "train.pairs.beta", "base.weights"]
    assert (of_data(settings), of_loss(settings)) == (settings[1:3], [*settings[1:3], settings[4]])
