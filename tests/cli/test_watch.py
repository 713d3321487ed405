"""Watching runs from another terminal, and keeping them: through a pseudo-terminal and as plain lines."""

from __future__ import annotations

import os
import shutil
import signal
import subprocess
import sys
import time
from pathlib import Path

import pandas as pd
import pexpect
import pytest

import foldkit
from foldkit.formats import write_jsonl
from foldkit.runs import LogWriter, RunFolder, list_runs, new_run

from ..conftest import PATIENCE
from .test_cli import call

TRAIN = ("train", "--set", "train.epochs=200", "--set", "train.validate_every=10", "--set", "train.checkpoint_every=10")


def begun(folder: Path, name: str, *more: str) -> subprocess.Popen[bytes]:
    """Begin a long training in a process of its own, and wait for its first validation."""
    command = [sys.executable, "-m", "foldkit", *TRAIN, "--name", name, *more]
    training = subprocess.Popen(command, cwd=folder, stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL)
    log = folder / "runs" / name / "log.jsonl"
    for _ in range(10 * PATIENCE):
        if log.exists() and '"validation"' in log.read_text():
            return training
        assert training.poll() is None
        time.sleep(0.1)
    raise AssertionError("no validation in all that time")


def watching(folder: Path, *words: str) -> pexpect.spawn[str]:
    """Run `foldkit watch` in a pseudo-terminal of 100 columns."""
    environment = {**os.environ, "TERM": "xterm-256color"}
    words = ("-m", "foldkit", "watch", *words)
    return pexpect.spawn(
        sys.executable,
        list(words),
        cwd=folder,
        encoding="utf-8",
        dimensions=(40, 100),
        env=environment,
        timeout=PATIENCE,
    )


def test_a_training_is_watched_while_it_goes_and_stopped_from_aside(work_folder: Path) -> None:
    """The curve is redrawn as the log grows; a stop from another terminal saves; the exit code is the run's."""
    training = begun(work_folder, "long")
    view = watching(work_folder)
    view.expect(r"long.*training.*to go")
    view.expect("validation loss")
    view.expect(r"step (\d+) of")
    first = int(view.match[1])
    view.expect(rf"step (?!{first} of)(\d+) of")
    assert int(view.match[1]) > first
    piped = subprocess.Popen(
        [sys.executable, "-m", "foldkit", "watch", "long"], cwd=work_folder, stdout=subprocess.PIPE, text=True
    )
    refused = call("runs", "delete", "long", "--yes", cwd=work_folder)
    assert (refused.returncode, "stop it first" in refused.stderr) == (1, True)
    asked = call("runs", "stop", cwd=work_folder)
    assert "go on: foldkit train --resume long" in asked.stdout
    assert training.wait(60) == 130
    view.expect("ended: stopped")
    view.expect("stopped early")
    view.expect(pexpect.EOF)
    view.close()
    assert view.exitstatus == 130
    lines = piped.communicate(timeout=PATIENCE)[0].splitlines()
    assert piped.returncode == 130
    assert all("\x1b" not in line for line in lines)
    assert lines[-1].startswith("long  stopped  step")
    assert not (work_folder / "runs" / "long" / ".stop").exists()
    went_on = ("train", "--resume", "long")
    again = subprocess.Popen([sys.executable, "-m", "foldkit", *went_on], cwd=work_folder, stderr=-3, stdout=-3)
    log = work_folder / "runs" / "long" / "log.jsonl"
    for _ in range(10 * PATIENCE):
        if '"resumed"' in log.read_text():
            break
        time.sleep(0.1)
    shown = call("watch", "--once", cwd=work_folder).stdout
    assert "long  ·  training" in shown
    assert "\x1b" not in shown
    again.send_signal(signal.SIGINT)
    assert again.wait(60) == 130
    assert len(foldkit.read_log(log).of("finished")) == 1


def test_a_killed_writer_is_told_from_a_slow_one(work_folder: Path) -> None:
    """Frozen, the run counts as at work; killed, half a line at its end, the view ends with code 1 and says so."""
    training = begun(work_folder, "doomed")
    view = watching(work_folder, "doomed")
    view.expect(r"doomed.*training")
    os.kill(training.pid, signal.SIGSTOP)
    assert list_runs(work_folder / "runs")[0].state == "training"
    os.kill(training.pid, signal.SIGKILL)
    training.wait(60)
    with (work_folder / "runs" / "doomed" / "log.jsonl").open("a") as log:
        log.write('{"event": "step", "st')
    view.expect("killed")
    view.expect(pexpect.EOF)
    view.close()
    assert view.exitstatus == 1
    assert "killed" in call("runs", cwd=work_folder).stdout


def sample_run(folder: Path, name: str, rank: int, loss: float) -> RunFolder:
    """Write a finished run by hand."""
    run = new_run(folder / "runs", name)
    run.sheet.write_text(f'{{"folder": "../..", "base": {{"model": "tiny"}}, "adapter": {{"rank": {rank}}}}}')
    writer = LogWriter(run.log)
    writer.write("started", step=0, n_steps=30, n_train=20, n_validation=5)
    figures = {"epoch": 1.0, "smoothed_loss": 1.0, "learning_rate": 1e-3, "gradient_norm": 1.0, "peak_bytes": 10**6}
    lines = [
        {"event": "step", "step": n, "loss": loss + 3 / n, "seconds": 1.0 * n, "tokens_per_second": 9.0, "to_go": 0.0}
        for n in range(1, 31)
    ]
    write_jsonl(run.log, [*foldkit.read_log(run.log).events, *(line | figures for line in lines)])
    writer.write("validation", step=30, validation_loss=loss, best=True, seconds=31.0)
    end = {"best_step": 30, "best_validation_loss": loss, "seconds": 31.0}
    writer.write("finished", step=30, reason="done", **end)
    return run


def test_runs_are_listed_compared_noted_exported_and_deleted(work_folder: Path) -> None:
    """Each from the command line; deletion asks first, and no answer keeps the run."""
    sample_run(work_folder, "one", 4, 0.5)
    sample_run(work_folder, "two", 16, 0.25)
    assert call("runs", "note", "two", "twice the rank", cwd=work_folder).returncode == 0
    listed = call("runs", cwd=work_folder).stdout
    assert "twice the rank" in listed
    assert "0.2500 at 30" in listed
    compared = call("runs", "compare", "one", "two", cwd=work_folder).stdout
    assert [word for word in compared.split() if word in ("4", "16")] == ["4", "16"]
    assert ("base" in compared, "can't be compared" in compared) == (False, False)
    for text, other, by in (
        ('{"rank": 16}', '{"rank": 16}, "split": {"seed": 3}', "split.seed"),
        ('"n_train": 20', '"n_train": 22', "20, 22 rows in train"),
    ):
        for file in (RunFolder(work_folder / "runs" / "two").sheet, RunFolder(work_folder / "runs" / "two").log):
            before = file.read_text()
            file.write_text(before.replace(text, other))
            for command in (["runs", "compare"], ["curves"]):
                said = call(*command, "one", "two", cwd=work_folder).stdout
                assert (f"! by {by} these validation losses are of other" in said) is (text in before)
            file.write_text(before)
    shown = call("runs", "show", "two", cwd=work_folder).stdout
    assert "\nbest validation loss 0.2500 at step 30\n" in shown
    assert "adapter.rank" in shown
    assert "twice the rank" in shown
    for name in ("runs.csv", "runs.parquet"):
        assert call("runs", "export", name, cwd=work_folder).returncode == 0
    again = call("runs", "export", "runs.csv", cwd=work_folder)
    assert (again.returncode, "expected a new file" in again.stderr) == (2, True)
    for table in (pd.read_csv(work_folder / "runs.csv"), pd.read_parquet(work_folder / "runs.parquet")):
        assert table.set_index("name")["adapter.rank"].to_dict() == {"one": 4, "two": 16}
    call("runs", "delete", "one", cwd=work_folder, typed="n\n")
    assert (work_folder / "runs" / "one").exists()
    call("runs", "delete", "one", cwd=work_folder, typed="y\n")
    assert not (work_folder / "runs" / "one").exists()
    missing = call("runs", "show", "tow", cwd=work_folder)
    assert (missing.returncode, "did you mean 'two'" in missing.stderr) == (2, True)


def test_a_picture_and_a_view_of_finished_runs(work_folder: Path) -> None:
    """One run and two in a picture; the view once, with its figures; a wrong ending is refused by name."""
    sample_run(work_folder, "one", 4, 0.5)
    sample_run(work_folder, "two", 16, 0.25)
    done = call("curves", "one", "two", "-o", "both.svg", "--across", "minutes", cwd=work_folder)
    assert done.stdout.endswith("picture both.svg\n")
    assert (work_folder / "both.svg").read_text().startswith("<?xml")
    assert call("curves", cwd=work_folder).returncode == 0
    assert (work_folder / "runs" / "two" / "curve.png").exists()
    refused = call("curves", "one", "-o", "x.jpg", cwd=work_folder)
    assert (refused.returncode, ".svg" in refused.stderr) == (2, True)
    seen = call("watch", "two", "--once", cwd=work_folder).stdout
    for said in ("two  ·  finished", "step 30 of 30 (100%)", "best validation 0.2500 at step 30", "ended: done", "●"):
        assert said in seen
    assert max(map(len, seen.splitlines())) <= 120


@pytest.mark.parametrize("events", [0, 1])
def test_a_run_that_has_not_begun_is_shown_without_a_picture(work_folder: Path, events: int) -> None:
    """No log yet, or a log without a step."""
    run = new_run(work_folder / "runs", "new")
    run.sheet.write_text('{"folder": "../.."}')
    if events:
        LogWriter(run.log).write("note", says="computes in float32")
    seen = call("watch", "new", "--once", cwd=work_folder)
    assert seen.returncode == 0
    assert "(no step yet)" in seen.stdout
    assert call("watch", "new", cwd=work_folder).returncode == 1


def test_varied_settings_are_ranked_by_validation(work_folder: Path) -> None:
    """A table at the end, the best first; going on makes what is missing; a second meaning of it is refused."""
    done = call(
        "train",
        "--vary",
        "train.learning_rate=[1e-6, 1e-2]",
        "--set",
        "train.steps=2",
        "--name",
        "t",
        cwd=work_folder,
    )
    assert done.returncode == 0, done.stderr
    assert "run 2 of 2: train.learning_rate 0.01" in done.stderr
    assert done.stdout.index("t-02") < done.stdout.index("t-01")
    assert "the test part was not looked at" in done.stdout
    shutil.rmtree(work_folder / "runs" / "t-01")
    again = call("train", "--resume", cwd=work_folder)
    assert "run 1 of 2: train.learning_rate 1e-06" in again.stderr
    assert (again.returncode, again.stdout.index("t-02") < again.stdout.index("t-01")) == (0, True)
    both = call("train", "--vary", "adapter.rank=[2]", "--processes", "2", cwd=work_folder)
    assert (both.returncode, "--vary" in both.stderr) == (2, True)
