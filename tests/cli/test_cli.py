"""The command line: what it prints where, and its exit codes."""

from __future__ import annotations

import dataclasses
import functools
import io
import json
import os
import re
import signal
import subprocess
import sys
import threading
import time
from collections.abc import Callable
from contextlib import redirect_stderr, redirect_stdout, suppress
from pathlib import Path

import click
import pexpect
import psutil
import pytest
import torch
from click.testing import CliRunner
from rich.console import Console

import foldkit
from foldkit.cli import processes
from foldkit.cli.common import NewFile, show_table
from foldkit.cli.main import foldkit as group
from foldkit.cli.main import main
from foldkit.formats import FoldKitError, LostProcessError, StoppedError, locked

from ..conftest import PATIENCE


def call(*words: str, cwd: Path, typed: str = "") -> subprocess.CompletedProcess[str]:
    """Run the command line in this process; in one of its own where something is typed."""
    if typed:
        environment = {**os.environ, "COLUMNS": "120", "PYTHONIOENCODING": "utf-8"}
        command = [sys.executable, "-m", "foldkit", *words]
        bare = subprocess.run(
            command,
            cwd=cwd,
            capture_output=True,
            env=environment,
            check=False,
            input=typed.encode(errors="surrogateescape"),
        )
        return subprocess.CompletedProcess(words, bare.returncode, bare.stdout.decode(), bare.stderr.decode())
    said, told, code = io.StringIO(), io.StringIO(), 0
    with pytest.MonkeyPatch.context() as patch, redirect_stdout(said), redirect_stderr(told):
        patch.chdir(cwd)
        patch.setenv("COLUMNS", "120")
        patch.setattr(sys, "argv", ["foldkit", *words])
        try:
            main()
        except SystemExit as end:
            code = int(end.code or 0)
    return subprocess.CompletedProcess(words, code, said.getvalue(), told.getvalue())


def test_the_whole_way(work_folder: Path) -> None:
    """look, split, build, train, score, ask: results on standard output, progress on standard error."""
    looked = call("look", "--row", "2", cwd=work_folder)
    assert looked.returncode == 0, looked.stderr
    assert "【east<end>】" in looked.stdout
    assert "examples in tokens" in looked.stdout
    assert "【" in call("look", "--random", cwd=work_folder).stdout
    assert json.loads(call("look", "--json", cwd=work_folder).stdout)["n_rows"] == 40
    lines = call("split", "--rows", cwd=work_folder).stdout.splitlines()
    assert len(lines) == 40
    assert {line.split("\t")[1] for line in lines} == {"train", "validation", "test"}
    assert "rows outside train that stand in train too: 0" in call("split", cwd=work_folder).stdout
    built = call("build", cwd=work_folder).stdout
    assert "learned tokens" in built
    assert "! few rows: 2" in built
    strict = call("build", "--strict", cwd=work_folder)
    assert (strict.returncode, strict.stderr.startswith("foldkit: --strict:")) == (1, True)
    trained = call("train", "--name", "first", cwd=work_folder)
    assert trained.returncode == 0, trained.stderr
    assert "best validation loss" in trained.stdout
    assert "best so far" in trained.stderr
    assert "best so far" not in trained.stdout
    scored = call("score", "first", cwd=work_folder)
    assert scored.returncode == 0, scored.stderr
    assert "adapter is better than base: loss" in scored.stdout
    asked = call("ask", "wind 3 west?", "--both", "--max-tokens", "3", cwd=work_folder)
    assert [line.partition(":")[0] for line in asked.stdout.splitlines() if ":" in line] == ["base", "adapter"]


def test_the_demo_goes_the_whole_way(tmp_path: Path) -> None:
    """On the data and the base that ship, here with a short training; every step says its own command."""
    few = ("--set", "train.epochs=0.3", "--set", "train.validations=1", "--set", "score.contender=[]")
    done = call("demo", "--folder", "d", *few, cwd=tmp_path)
    assert done.returncode == 0, done.stderr
    for command in ("look", "build", "train", "score", "ask --both"):
        assert f"foldkit {command}" in done.stdout
    run = tmp_path / "d" / "runs" / "run-001"
    assert {
        ".lock",
        "adapter.safetensors",
        "checkpoints",
        "curve.png",
        "log.jsonl",
        "rows.csv",
        "rows.jsonl",
        "scorecard.json",
        "scorecard.md",
        "scorecard.png",
        "sheet.json",
    } == {path.name for path in run.iterdir()}


def test_new_says_what_it_assumed_and_what_comes_next(tmp_path: Path) -> None:
    """And the next command works."""
    (tmp_path / "r.csv").write_text("question,answer\n" + "".join(f"sea {i}?,calm {i}\n" for i in range(2100)))
    done = call("new", "r.csv", cwd=tmp_path)
    assert done.returncode == 0, done.stderr
    assert "assumed: question rows, recognised" in done.stdout
    assert "assumed: the base is pellam" in done.stdout
    assert done.stdout.rstrip().endswith("next: foldkit look")
    looked = call("look", cwd=tmp_path)
    assert "examples in tokens, of 2,000 rows from all over the file, window 128, 0 over it" in looked.stdout
    assert call("new", "r.csv", cwd=tmp_path).returncode == 2
    assert call("new", "r.csv", "--folder", "a/b", cwd=tmp_path).stdout.endswith("foldkit look --sheet a/b/fold.toml\n")
    assert call("look", "--sheet", "a/b/fold.toml", cwd=tmp_path).returncode == 0
    told = ("--question", "answer", "--answer", "question", "--folder", "c")
    assert "as told: question in column 'answer', answer in" in call("new", "r.csv", *told, cwd=tmp_path).stdout
    (tmp_path / "e").mkdir()
    assert "next: foldkit look\n" in call("new", "../*.csv", cwd=tmp_path / "e").stdout
    nothing = call("new", "r.csv", "--base", "", "--folder", "d", cwd=tmp_path)
    assert (nothing.returncode, "leave it out for pellam" in nothing.stderr) == (2, True)
    wrong = call("new", "r.csv", "--answer", "anwser", "--folder", "d", cwd=tmp_path)
    assert (wrong.returncode, "did you mean 'answer'?" in wrong.stderr) == (2, True)


def test_looking_closer_and_asking_more(work_folder: Path) -> None:
    """The template, the figure, a row that cannot be used; one of given answers, a stop, a file of questions."""
    linted = call("look", "--template", cwd=work_folder)
    assert linted.stdout == "template question in the markup of tiny\nnothing odd in the template\n", linted.stderr
    assert call("look", "--figure", "lengths.svg", cwd=work_folder).stdout == "drawn into lengths.svg\n"
    assert "window 128: 0 of 40 over it" in (work_folder / "lengths.svg").read_text()
    talk = json.dumps([{"role": "cat", "content": "x"}])
    (work_folder / "talks.jsonl").write_text(json.dumps({"messages": talk}) + "\n")
    odd = call("look", "--set", "rows.source=talks.jsonl", "--set", "template.use=conversation", cwd=work_folder)
    assert "row 1 will be set aside: message 1 has the role 'cat'" in odd.stdout
    gaps = [{"question": f"wind {i}?", "answer": "west" if i % 2 else ""} for i in range(40)]
    gaps[1]["question"], gaps[3]["question"] = "wind " * 200, "wind " * 300
    (work_folder / "gaps.jsonl").write_text("\n".join(map(json.dumps, gaps)))
    built = call("build", "--set", "rows.source=gaps.jsonl", cwd=work_folder).stdout
    assert "set aside: 20 × blank: answer; rows 1, 3, 5, 7, 9, 11, 13, 15 and 12 more\n" in built
    assert re.search(r"^an epoch: [\d,]+ tokens; packed, none is padding; side by side it", built, re.MULTILINE)
    assert re.search(r"set aside: 2 × \d+ tokens, the window is 128 \(the first\); rows 2, 4\n", built)
    assert "set aside: 22 in all, each with its reason in built/set_aside.jsonl\n" in built
    assert call("train", "--set", "train.epochs=0.5", cwd=work_folder).returncode == 0
    ask = ("ask", "wind 3 south?", "--max-tokens", "9")
    chosen = call(*ask, "--both", "--choose", "west", "--choose", "east", cwd=work_folder).stdout
    assert set(chosen.replace("base: ", "").replace("adapter: ", "").split()) <= {"west", "east"}
    whole = call(*ask, cwd=work_folder).stdout.rstrip("\n")
    assert call(*ask, "--stop", whole[2:4], cwd=work_folder).stdout == whole[: whole.index(whole[2:4])] + "\n"
    (work_folder / "questions.jsonl").write_text('{"question": "wind 1?"}\n{"question": "wind 2?"}\n')
    filed = call("ask", "--file", "questions.jsonl", "--max-tokens", "3", "--both", cwd=work_folder)
    assert (filed.stdout, filed.stderr) == ("answers of base and adapter in answers.jsonl\n", "2 of 2\n")
    again = call("ask", "--file", "questions.jsonl", "--max-tokens", "3", cwd=work_folder)
    assert "expected those of the same contenders" in again.stderr
    assert len((work_folder / "answers.jsonl").read_text().splitlines()) == 2


TALK = """/help
wind 1 west?
/both
wind 2?
/base
/length 3
wind 3?
/new
/adapter none
/adapter
/lenght 4
/length x
/slot town=x
/temperature 0.5
wind 4?
"""


def test_a_conversation_from_lines(work_folder: Path) -> None:
    """Answers on standard output, everything else beside it; a wrong command is told, and the talk goes on."""
    assert call("train", "--set", "train.epochs=0.5", cwd=work_folder).returncode == 0
    done = call("ask", "--max-tokens", "5", cwd=work_folder, typed=TALK)
    assert done.returncode == 0, done.stderr
    lines = [line for line in done.stdout.splitlines() if line.strip()]
    assert [line.partition(":")[0] for line in lines if line.startswith(("base:", "adapter:"))] == [
        "adapter",
        "base",
        "adapter",
    ]
    assert any(line.split() == ["base", "adapter"] for line in lines)
    for said in (
        "Ctrl-D ends",
        "base and adapter will answer",
        "at most 3 tokens",
        "begun anew",
        "did you mean '/length'",
        "expected a number, found 'x'",
        "known: question",
        "temperature 0.5",
        "of 256 tokens of context",
        "! --adapter: run: expected a run of this sheet, found 'none'",
    ):
        assert said in done.stderr, said
    alone = call("ask", "wind 5?", "--base-only", "--max-tokens", "2", cwd=work_folder)
    assert (alone.returncode, alone.stderr) == (0, "(cut after 2 tokens: --max-tokens)\n")
    unasked = call("ask", "--base-only", cwd=work_folder, typed="/both\n/adapter\n\udcff\n/adapter run-001=0.5\n")
    assert unasked.stderr.count("open one: /adapter RUN") == 2
    assert r"! text: characters: expected whole ones, as UTF-8 has them, found '\udcff'" in unasked.stderr
    assert "adapter will answer: run-001=0.5" in unasked.stderr
    (work_folder / "one.jsonl").write_text('{"question": "wind 1?"}\n')
    filed = call("ask", "--base-only", "--file", "one.jsonl", "--max-tokens", "2", cwd=work_folder)
    assert (work_folder / "answers.jsonl.signed.json").exists()
    assert filed.stdout == "answers of base in answers.jsonl\n"
    first = json.loads((work_folder / "answers.jsonl").read_text())
    assert {name: type(value) for name, value in first.items()} == {"question": str, "base": str}
    drawn = ("--answers", "3", "--temperature", "2", "--max-tokens", "9")
    call("ask", "--base-only", "--file", "one.jsonl", "--out", "drawn.jsonl", *drawn, cwd=work_folder)
    assert len(json.loads((work_folder / "drawn.jsonl").read_text())["base"]) == 3
    many = call("ask", "wind 5?", *drawn, cwd=work_folder)
    assert len(set(many.stdout.split("\n"))) > 2
    same = call("ask", "wind 5?", "--answers", "3", cwd=work_folder)
    assert (same.returncode, "1 at temperature 0" in same.stderr) == (2, True)


def test_ctrl_c_in_a_training_saves_and_it_goes_on(work_folder: Path) -> None:
    """Once: the step is finished, the state saved, the way on told; then on to the end, every step once in the log."""
    words = [sys.executable, "-m", "foldkit", "train", "--set", "train.steps=150", "--set", "train.validations=1"]
    child = subprocess.Popen(words, cwd=work_folder, stdout=subprocess.PIPE, stderr=subprocess.PIPE, text=True)
    log = work_folder / "runs" / "run-001" / "log.jsonl"
    wait_for(log, '"step": 3,')
    child.send_signal(signal.SIGINT)
    stdout, stderr = child.communicate(timeout=PATIENCE)
    assert child.returncode == 130, stderr
    assert "finishing this step and saving" in stderr
    assert "foldkit train --resume run-001" in stdout
    assert "no validated adapter yet at step" in stdout
    assert call("train", "--resume", "--name", "x", cwd=work_folder).returncode == 2
    assert call("train", "--resume", "run-002", cwd=work_folder).returncode == 2
    resumed = call("train", "--resume", cwd=work_folder)
    assert resumed.returncode == 0, resumed.stderr
    assert "of them made before" in resumed.stderr
    assert "best validation loss" in resumed.stdout
    assert foldkit.read_log(log).series("step", "loss")[0] == list(range(1, 151))


@pytest.mark.parametrize("reader", ["terminal", "pipe"])
def test_a_training_outlives_who_reads_it_and_ends_saved(work_folder: Path, reader: str) -> None:
    """As where a connection is lost, or where Ctrl-C ends a `tee` as well: the run is one that was stopped."""
    words = [sys.executable, "-m", "foldkit", "train", "--set", "train.steps=3000", "--set", "train.validations=1"]
    log = work_folder / "runs" / "run-001" / "log.jsonl"
    if reader == "terminal":
        heed = functools.partial(signal.signal, signal.SIGHUP, signal.SIG_DFL)
        held = pexpect.spawn(
            words[0], words[1:], cwd=str(work_folder), encoding="utf-8", timeout=PATIENCE, preexec_fn=heed
        )
        held.expect(r"[1-9]\d*/3000")
        held.ptyproc.fileobj.close()
    else:
        piped = subprocess.Popen(words, cwd=work_folder, stdout=subprocess.PIPE, stderr=subprocess.STDOUT)
        wait_for(log, '"step": 3,')
        assert piped.stdout
        piped.stdout.close()
        piped.send_signal(signal.SIGINT)
        assert piped.wait(timeout=PATIENCE) == 130
    wait_for(log, '"finished"')
    last = json.loads(log.read_text().splitlines()[-1])
    (kept,) = (log.parent / "checkpoints").iterdir()
    assert (last["event"], last["reason"], last["step"]) == ("finished", "stopped", int(kept.stem[5:]))


def wait_for(log: Path, words: str) -> None:
    """Wait until a log has these words."""
    until = time.monotonic() + PATIENCE
    while not (log.exists() and words in log.read_text()):
        assert time.monotonic() < until, words
        time.sleep(0.02)


def test_processes_that_have_not_begun_end_with_their_launcher(
    monkeypatch: pytest.MonkeyPatch, capsys: pytest.CaptureFixture[str]
) -> None:
    """Each is told; one that is not would wait for the others, and be killed."""
    waited = processes._codes

    def start(*_: object) -> subprocess.Popen[bytes]:
        return subprocess.Popen([sys.executable, "-c", "import time; time.sleep(600)"])

    def told(running: list[subprocess.Popen[bytes]], errors: Path) -> list[int]:
        os.kill(os.getpid(), signal.SIGTERM)
        return waited(running, errors)

    monkeypatch.setattr(processes, "_start", start)
    monkeypatch.setattr(processes, "_codes", told)
    assert processes.in_processes(["train"], 2) == 1
    assert capsys.readouterr().err.count("of 2 was ended by SIGTERM; what was saved goes on") == 2


WAITING = "waiting for the others to save and end; Ctrl-C twice ends them\n"
KILLED = "foldkit: process 1 of 2 was ended by SIGKILL; what was saved goes on: foldkit train --resume --processes 2\n"


@pytest.mark.parametrize(
    ("first", "second", "said", "code"),
    [
        ("sys.exit(3)", "sys.exit('memory ran out')", "process 1: memory ran out\n", 1),
        ("time.sleep(600)", "sys.exit('memory ran out')", f"process 1: memory ran out\n{WAITING}", 1),
        ("time.sleep(600)", "os.kill(os.getpid(), 9)", f"{KILLED}{WAITING}", 1),
        ("sys.exit('bad rows')", "time.sleep(600)", WAITING, 1),
        ("sys.exit('bad rows')", "sys.exit('bad rows')", "", 1),
        ("sys.exit(130)", "sys.exit(130)", "", 130),
        ("time.sleep(600)", "sys.exit(130)", "", 1),
        ("sys.exit('bad rows')", "sys.exit(3)", "", 1),
    ],
)
def test_why_a_process_ended_is_told_where_the_first_does_not_know(
    monkeypatch: pytest.MonkeyPatch, capsys: pytest.CaptureFixture[str], first: str, second: str, said: str, code: int
) -> None:
    """One that lost it, or still waits for it and is ended; what both say is said once, by the first itself."""

    def start(_: object, rank: int, __: object, errors: Path) -> subprocess.Popen[bytes]:
        command = [sys.executable, "-c", f"import os, sys, time; {(first, second)[rank]}"]
        with (errors / str(rank)).open("wb") as error:
            return subprocess.Popen(command, stderr=error)

    monkeypatch.setattr(processes, "_start", start)
    is_left = "sleep" in first + second
    monkeypatch.setattr(processes, "_SECONDS_TO_SAY", 0.0 if is_left else PATIENCE)
    monkeypatch.setattr(processes, "_SECONDS_TO_END", 0.0 if is_left else PATIENCE)
    assert processes.in_processes(["train"], 2) == code
    assert capsys.readouterr().err == said


@pytest.mark.parametrize("sharded", ["false", "true"])
def test_processes_end_together_and_keep_what_was_done(work_folder: Path, sharded: str) -> None:
    """One is killed: the first saves, the launcher says which; the training goes on by as many alone.

    Where the base is divided one is asked to end before that: all do after the step, and it goes on.
    """
    words = ["train", "--processes", "2", "--set", "train.steps=3000", "--set", "train.micro_batch=2"]
    words += ["--set", "train.checkpoint_every=2000", "--set", f"base.sharded={sharded}"]
    log = work_folder / "runs" / "run-001" / "log.jsonl"

    def second_gets(words: list[str], number: int, at: str) -> tuple[int, str, str]:
        command, pipe = [sys.executable, "-m", "foldkit", *words], subprocess.PIPE
        child = subprocess.Popen(command, cwd=work_folder, stderr=pipe, stdout=pipe, text=True)
        wait_for(log, at)
        (second,) = [p for p in psutil.Process(child.pid).children() if p.environ()["RANK"] == "1"]
        second.send_signal(number)
        stdout, stderr = child.communicate(timeout=PATIENCE)
        return child.returncode, stdout, stderr

    step = 0
    if sharded == "true":
        code, stdout, stderr = second_gets(words, signal.SIGTERM, '"step": 3,')
        (stopped,) = (work_folder / "runs" / "run-001" / "checkpoints").iterdir()
        step = int(stopped.stem[5:])
        assert (code, f"stopped at step {step}; go on:" in stdout) == (130, True), stderr
        words = ["train", "--resume", "--processes", "2"]
    code, _, stderr = second_gets(words, signal.SIGKILL, f'"step": {step + 3},')
    assert code == 1
    assert "another process of this training has ended" in stderr
    assert "process 1 of 2 was ended by SIGKILL; what was saved goes on: foldkit train --resume --processes 2" in stderr
    kept = max((work_folder / "runs" / "run-001" / "checkpoints").iterdir())
    assert f"step {int(kept.stem[5:])} is kept" in " ".join(stderr.split())
    alone = call("train", "--resume", cwd=work_folder)
    assert (alone.returncode, "found 1; go on with as many" in alone.stderr) == (1, True), alone.stderr
    ended = foldkit.read_log(log).of("failed")
    assert "go on with --resume" in ended[0]["reason"]


def megabytes_in(pattern: str, text: str) -> int:
    (found,) = re.findall(pattern, text)
    return int(found.replace(",", ""))


def test_a_forecast_and_a_search_for_a_rate(work_folder: Path) -> None:
    """Counts, memory and time on standard output; a rate with its picture, and no run made by it; a low one is told."""
    said = call("forecast", cwd=work_folder)
    assert said.returncode == 0, said.stderr
    for word in ("14 steps", "activations", "(measured)", "peak", "first validation after"):
        assert word in said.stdout, word
    in_all = megabytes_in(r"in all +([\d,]+) ", said.stdout)
    learning = ("--set", "train.learning_rate=2e-2", "--set", "train.epochs=9")
    at_most = megabytes_in(r"at most ([\d,]+) MB of memory", call("train", *learning, cwd=work_folder).stdout)
    (started,) = foldkit.read_log(work_folder / "runs" / "run-001" / "log.jsonl").of("started")
    n, total = started["n_trainable"], started["n_trainable"] + started["n_base"]
    assert f"{n:,} trainable numbers, {n / total:.1%} of {total:,} in all\n" in said.stdout
    changes = ("train.learning_rate=1e-9", "train.epochs=5", "train.best_by=accuracy")
    low = call("train", *(word for change in changes for word in ("--set", change)), cwd=work_folder)
    assert "best validation by accuracy, of loss " in low.stdout
    assert re.search(r"^! flat: train loss was .*; try ten times the learning rate", low.stdout, re.MULTILINE)
    # Nearly all of it is what the program itself holds, which on a busy machine differs by a tenth between processes.
    assert in_all == pytest.approx(at_most, rel=0.25)
    short = call("forecast", "--set", "train.epochs=9000", "--set", "train.minutes=1", cwd=work_folder)
    assert "all of it about 1 min 00 s\nminutes end it at about step" in short.stdout
    changes = ("train.learning_rate=3", "train.epochs=9", "adapter.begin=runs/run-001/adapter.safetensors")
    high = call("train", *(word for change in changes for word in ("--set", change)), cwd=work_folder)
    assert high.stderr.count("! so far, learning rate too high: train loss ") == 1, high.stderr
    found = call("train", "--find-rate", "--set", "train.batch=8", cwd=work_folder)
    assert found.returncode == 0, found.stderr
    assert "suggested: foldkit train --set train.learning_rate=" in found.stdout
    assert "60 of 60" in found.stderr
    assert {path.name for path in (work_folder / "runs" / "rates-001").iterdir()} == {"rates.jsonl", "rates.png"}


def test_ctrl_c_in_an_answer_keeps_what_came(work_folder: Path) -> None:
    """In a terminal: the answer stops, the talk goes on with it in its context, Ctrl-D ends it.

    The base may answer for long, so that a machine that stalls is not too late to stop it. Tests that were started in
    the background ignore Ctrl-C, and so would what they start.
    """
    config = work_folder / "tiny" / "config.json"
    config.write_text(json.dumps(json.loads(config.read_text()) | {"max_position_embeddings": 20_000}))
    assert call("train", "--set", "train.epochs=0.1", cwd=work_folder).returncode == 0
    words = ["-m", "foldkit", "ask", "--base-only", "--max-tokens", "19000"]
    heed = functools.partial(signal.signal, signal.SIGINT, signal.SIG_DFL)
    child = pexpect.spawn(sys.executable, words, cwd=work_folder, encoding="utf-8", timeout=PATIENCE, preexec_fn=heed)
    child.expect("Ctrl-D ends")
    child.expect("> ")
    child.sendline("wind?")
    child.expect("base: ..")
    child.sendintr()
    child.expect("what came is kept")
    child.expect(r"(\d+) tokens in")
    assert 0 < int(child.match.group(1)) < 19000
    child.expect("> ")
    child.sendintr()
    child.expect("Ctrl-D ends")
    child.sendeof()
    child.expect(pexpect.EOF)
    child.close()
    assert child.exitstatus == 0


@pytest.mark.parametrize(
    ("words", "code", "said"),
    [
        (["trian"], 2, "did you mean 'train'"),
        (["runs", "comprae"], 2, "did you mean 'compare'"),
        (["train", "--set", "train.epoch=1"], 2, "did you mean 'epochs'"),
        (["look", "--set", "rows.source.x=1"], 2, "--set: rows.source.x=1: expected a section in source"),
        (
            ["train", "--sheet", "none.toml"],
            1,
            "none.toml: sheet: expected an existing file, found nothing; write one for your rows with foldkit new",
        ),
        (["train", "--find-rate", "--resume", "--processes", "2"], 2, "found '--resume and --processes'"),
        (["forecast", "--set", "split.validation=0"], 1, "rows in validation: expected at least one"),
        (["train", "--set", "split.test=38", "--set", "split.validation=2"], 1, "rows in train: expected at least one"),
        (["watch"], 1, "train first"),
        (["score", "x"], 2, "RUN: run: expected a run of this sheet"),
        (["ask", "--slot", "x"], 2, "expected name=value"),
        (["ask", "--both", "--base-only", "x"], 2, "--base-only: other options: expected none of these beside it"),
        (["ask", "x", "--file", "rows.jsonl"], 2, "--file: other options: expected none of these beside it"),
        (["look", "--json", "--row", "1"], 2, "--row: other options: expected none of these beside it, found '--json'"),
        (["score", "--pick", "--fail-under", "exact=1"], 2, "--pick: other options: expected none of these beside it"),
        (["look", "--row", "99"], 2, "1 to 40"),
        (["score", "--rows", "rows.jsonl"], 2, "expected a new file, found 'rows.jsonl'"),
        (["look", "--colour"], 2, "No such option"),
        (["ask", "-5 at noon"], 2, "A text that begins with a dash stands last, after --."),
        (
            ["build", "--set", "rows.columns={'\udcff'='question'}"],
            1,
            r"\udcff",
        ),
        (
            ["build", "rows.csv"],
            2,
            "extra argument (rows.csv)\nRows and settings stand in the sheet: fold.toml",
        ),
        (
            ["split", "--set", "rows.columns={mail='question'}"],
            1,
            "column: expected a column of the rows, found 'question'",
        ),
        (["look", "--figure", "a.gif"], 2, "a.gif: ending: expected '.png' or '.svg' or '.pdf'"),
        (["report", "-o", "none/a.html"], 2, "expected a file in a folder that is there, found 'none/a.html'"),
        (["look", "--figure", "/proc/a.png"], 1 if os.access("/proc", os.W_OK) else 2, "/proc/a.png"),
        (
            ["new", "rows.jsonl", "--folder", "other", "--base", "none"],
            1,
            "other/../none: base: expected an existing folder",
        ),
        (["build", "--set", "rows.source=none.csv"], 1, "none.csv"),
    ],
)
def test_mistakes_get_one_clear_line(work_folder: Path, words: list[str], code: int, said: str) -> None:
    """Exit code 2 for a wrong call, 1 for a failure; nothing on standard output, no traceback."""
    done = call(*words, cwd=work_folder)
    assert (done.returncode, done.stdout) == (code, "")
    assert said in done.stderr
    assert "Traceback" not in done.stderr


def test_a_file_in_a_folder_that_may_only_be_read_is_refused_before_the_work(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    """As a usage error; where the folder can be written in it is the path."""
    assert NewFile().convert(str(tmp_path / "a.csv"), None, None) == tmp_path / "a.csv"
    monkeypatch.setattr(os, "access", lambda *_: False)
    with pytest.raises(click.BadParameter, match=r"expected a file in a folder that can be written in, .*a\.csv"):
        NewFile().convert(str(tmp_path / "a.csv"), None, None)


@pytest.mark.parametrize("words", [["--vary", "train.seed=[1, 2]"], ["--find-rate"], ["--processes", "2"]])
def test_what_makes_more_than_one_training_is_refused_under_a_launcher(
    work_folder: Path, monkeypatch: pytest.MonkeyPatch, words: list[str]
) -> None:
    """Each of its processes would begin all of them."""
    monkeypatch.setenv("WORLD_SIZE", "2")
    done = call("train", *words, cwd=work_folder)
    assert (done.returncode, done.stdout) == (2, "")
    said = "other options: expected none of these beside it, found 'WORLD_SIZE=2'; leave them out"
    assert done.stderr == f"foldkit: {words[0]}: {said}\n"
    assert not (work_folder / "runs").exists()


def test_a_command_that_waits_for_a_build_says_so(work_folder: Path) -> None:
    """Where another command holds the dataset; and it goes on by itself."""
    (work_folder / "built").mkdir()
    begun = threading.Event()

    def hold() -> None:
        with locked(work_folder / "built" / "lock"):
            begun.set()
            for _ in range(100 * PATIENCE):
                if isinstance(sys.stderr, io.StringIO) and "waiting" in sys.stderr.getvalue():
                    break
                time.sleep(0.01)

    other = threading.Thread(target=hold)
    other.start()
    begun.wait()
    done = call("build", cwd=work_folder)
    other.join()
    assert (done.returncode, done.stderr) == (0, "another command is building built: waiting for it\n")
    assert call("build", cwd=work_folder).stderr == ""


def test_help_and_import_load_nothing_heavy(tmp_path: Path) -> None:
    """No torch, no tables, no plotting; every command has a help text of a screen with an example; no list is cut."""
    heavy = "torch,pandas,matplotlib,tokenizers,numpy"
    code = (
        "import sys, foldkit; from foldkit.cli.main import foldkit as group; "
        "group.main(['--help'], standalone_mode=False); "
        f"print([name for name in '{heavy}'.split(',') if name in sys.modules])"
    )
    done = subprocess.run([sys.executable, "-c", code], cwd=tmp_path, capture_output=True, text=True, check=True)
    assert done.stdout.splitlines()[-1] == "[]"
    for name, command in group.commands.items():
        assert command.epilog, name
        assert command.epilog.startswith(f"Example: foldkit {name}")
        assert len(CliRunner().invoke(group, [name, "--help"]).output.splitlines()) <= 28
    for words in (["--help"], ["runs", "--help"]):
        assert "..." not in CliRunner().invoke(group, words).output.partition("Commands:")[2]


@pytest.mark.parametrize(("told", "n_threads"), [({}, 2), ({"OMP_NUM_THREADS": "3"}, 3)])
def test_there_are_no_more_threads_than_may_run_unless_the_user_said(
    tmp_path: Path, told: dict[str, str], n_threads: int
) -> None:
    """OpenMP reads its variables as PyTorch is loaded, so the command says it before; what the user said is kept."""
    code = (
        "import os, sys; from foldkit.models import threads; from foldkit.cli.main import main; "
        "threads.usable_processors, threads._bound = lambda: 2, lambda: 8; "
        "sys.argv = ['foldkit', '--version']; main(); print(os.environ['OMP_NUM_THREADS'], 'torch' in sys.modules)"
    )
    env = {name: value for name, value in os.environ.items() if name != "OMP_NUM_THREADS"} | told
    command = [sys.executable, "-c", code]
    done = subprocess.run(command, cwd=tmp_path, env=env, capture_output=True, text=True, check=True)
    assert done.stdout.splitlines()[-1] == f"{n_threads} False"


def test_a_training_loads_no_compiler(work_folder: Path) -> None:
    """Neither PyTorch's nor its library of symbols: 2 s of every start, and 70 MB; layers computed again or kept."""
    code = (
        "import sys, foldkit; from pathlib import Path; [foldkit.train(foldkit.read_sheet(Path('fold.toml'), "
        "['train.steps=1', f'train.recompute={again}'])) for again in ('true', 'false')]; "
        "print([name for name in ('torch._dynamo', 'sympy') if name in sys.modules])"
    )
    done = subprocess.run([sys.executable, "-c", code], cwd=work_folder, capture_output=True, text=True, check=True)
    assert done.stdout.splitlines()[-1] == "[]"


@pytest.mark.parametrize(
    ("fails", "code"),
    [(lambda *_: torch.empty(2**52), 1), (lambda *_: bytearray(2**62), 1), (lambda *_: _other(), None)],
)
def test_memory_that_runs_out_is_said(
    work_folder: Path, monkeypatch: pytest.MonkeyPatch, fails: Callable[..., object], code: int | None
) -> None:
    """By an allocation that no machine has room for, of PyTorch and of Python; another error keeps its traceback."""
    monkeypatch.setattr("foldkit.training.stepping.Stepper.gradient", fails)
    if code is None:
        with pytest.raises(RuntimeError, match="another"):
            call("train", cwd=work_folder)
        return
    done = call("train", cwd=work_folder)
    assert done.returncode == code
    assert (
        "foldkit: memory ran out; what was written before is whole; a training takes less with a smaller" in done.stderr
    )
    (log,) = work_folder.glob("runs/*/log.jsonl")
    assert json.loads(log.read_text().splitlines()[-1])["event"] == "failed"


def _other() -> None:
    raise RuntimeError("another")


@pytest.mark.parametrize(
    ("command", "at", "code", "said"),
    [
        ("split", "foldkit.work.split = press", 130, "foldkit: interrupted"),
        ("trian", "atexit.register(press)", 2, "did you mean 'train'"),
    ],
)
def test_ctrl_c_ends_a_command_in_a_line_and_after_its_end_nothing(
    work_folder: Path, command: str, at: str, code: int, said: str
) -> None:
    """While it works; and while Python ends, where libraries tidy up, one of them for as long as it takes to press."""
    program = (
        "import atexit, os, signal, sys, time; import foldkit.work; from foldkit.cli import main; "
        f"sys.argv = ['foldkit', '{command}']; signal.signal(signal.SIGINT, signal.default_int_handler); "
        f"press = lambda *_: [os.kill(os.getpid(), signal.SIGINT), time.sleep(1)]; {at}; main()"
    )
    done = subprocess.run([sys.executable, "-c", program], cwd=work_folder, capture_output=True, text=True, check=False)
    assert (done.returncode, "Traceback" in done.stderr, said in done.stderr) == (code, False, True), done.stderr


def test_a_terminal_without_a_character_gets_its_number(work_folder: Path) -> None:
    """What marks the learned part is no ASCII."""
    command = [sys.executable, "-m", "foldkit", "look"]
    env = os.environ | {"PYTHONIOENCODING": "ascii"}
    done = subprocess.run(command, cwd=work_folder, env=env, capture_output=True, text=True, check=False)
    assert (done.returncode, "\\u3010" in done.stdout) == (0, True), done.stderr


def test_ctrl_c_twice_ends_a_process_that_python_waits_in() -> None:
    """As for another process of a training, which is at work elsewhere or gone without a word."""
    code = (
        "import hashlib; from rich.console import Console; from foldkit.cli.interrupts import first_interrupt\n"
        "with first_interrupt(Console(stderr=True), 2): print('ready', flush=True); "
        "hashlib.pbkdf2_hmac('sha256', b'', b'', 10**9)"
    )
    child = subprocess.Popen([sys.executable, "-c", code], text=True, stdout=subprocess.PIPE, stderr=subprocess.PIPE)
    assert child.stdout
    child.stdout.readline()
    time.sleep(0.6)  # until it waits
    for _ in range(PATIENCE):  # two, where the machine does not stand still: those that are sent at once are one
        child.send_signal(signal.SIGINT)
        with suppress(subprocess.TimeoutExpired):
            child.wait(0.6)
            break
    _, stderr = child.communicate(timeout=PATIENCE)
    assert (child.returncode, stderr.splitlines()[-1]) == (130, "foldkit: interrupted")


def test_the_public_names_are_those_of_the_doors() -> None:
    """Every name of every lazy door opens, and is one that a prompt completes."""
    import importlib

    for room in ("", ".models", ".adapters", ".answering", ".training", ".scoring", ".work"):
        door = importlib.import_module(f"foldkit{room}")
        assert all(getattr(door, name) is not None for name in door.__all__)
        assert dir(door) == door.__all__
        with pytest.raises(AttributeError, match="no attribute"):
            door.nothing  # noqa: B018
    assert "train" in foldkit.__all__


def test_what_does_not_fit_once_it_was_measured_is_a_failure(
    work_folder: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    """The first guess fitted, so that steps were made; what takes less is said instead of a time."""
    found = foldkit.forecast(foldkit.read_sheet(work_folder / "fold.toml"))
    assert found.duration
    tight = dataclasses.replace(found, free_bytes=round(found.memory.peak))
    monkeypatch.setattr("foldkit.work.forecast", lambda _: tight)
    done = call("forecast", cwd=work_folder)
    assert done.returncode == 1
    assert "(measured)" in done.stdout
    assert "! it does not fit; what takes less" in done.stdout
    assert "a step about" not in done.stdout


def test_ctrl_c_before_the_commands_are_read_leaves_no_traceback(tmp_path: Path) -> None:
    """As what is loaded first has it here."""
    (tmp_path / "click.py").write_text("raise KeyboardInterrupt\n")
    command, environment = [sys.executable, "-m", "foldkit", "look"], {**os.environ, "PYTHONPATH": str(tmp_path)}
    done = subprocess.run(command, capture_output=True, text=True, env=environment, check=False)
    assert (done.returncode, done.stdout, done.stderr) == (130, "", "foldkit: interrupted\n")


@pytest.mark.parametrize(
    ("error", "rank", "said", "code"),
    [
        (StoppedError("stopped; go on"), "0", "foldkit: stopped; go on\n", 130),
        (StoppedError("stopped; go on"), "1", "", 130),
        (LostProcessError("another has ended"), "0", "foldkit: another has ended\n", 3),
        (LostProcessError("another has ended"), "1", "foldkit: another has ended\n", 3),
    ],
)
def test_what_stops_before_its_first_step_or_loses_a_process_has_a_code_of_its_own(
    work_folder: Path, monkeypatch: pytest.MonkeyPatch, error: FoldKitError, rank: str, said: str, code: int
) -> None:
    """Of several processes that stop the first one says so."""

    def stopped(*_: object, **__: object) -> None:
        raise error

    monkeypatch.setattr("foldkit.work.train", stopped)
    monkeypatch.setenv("WORLD_SIZE", "2")
    monkeypatch.setenv("RANK", rank)
    done = call("train", cwd=work_folder)
    assert (done.returncode, done.stdout, done.stderr) == (code, "", said)


@pytest.mark.parametrize(("width", "n_blocks"), [(120, 1), (80, 2), (60, 3), (36, 5)])
def test_a_table_that_is_too_wide_goes_on_below(width: int, n_blocks: int) -> None:
    """With its names again and no figure broken; in a table that is too narrow for one column nothing could be kept."""
    names, figures = ["by", "contender"], [f"measure {number}" for number in range(1, 6)]
    lines = [
        [*whose, *(f"{n / 7:.3f}\n(0.001–{n}.999)" for n in range(5))] for whose in (("new", "base"), ("old", "own"))
    ]
    console = Console(file=io.StringIO(), width=width)
    show_table(console, [*names, *figures], lines)
    said = console.file.getvalue()  # type: ignore[attr-defined]
    assert max(map(len, said.splitlines())) <= width
    assert [said.count(part) for part in ("contender", "base", "(0.001–4.999)")] == [n_blocks, n_blocks, 2]
    assert said.count(".999)") == 10


def test_brackets_and_colons_are_written_as_they_are(work_folder: Path) -> None:
    """In the name of a folder, of a contender and in a text: what would be a style, the end of one, and a picture."""
    folder = work_folder / "rows [old] :boat:"
    folder.mkdir()
    rows = [{"question": f"[/b] sea {i} :boat:?", "answer": f"[red]calm {i}[/]"} for i in range(40)]
    (folder / "r.jsonl").write_text("\n".join(map(json.dumps, rows)))
    named = f"{folder.name}/"
    started = call("new", f"{named}r.jsonl", "--base", str(work_folder / "tiny"), cwd=work_folder)
    assert f"wrote {named}fold.toml and {named}template.toml\n" in started.stdout
    sheet = ("--sheet", f"{named}fold.toml")
    assert f"built in {named}built\n" in call("build", *sheet, cwd=work_folder).stdout
    shown = call("look", *sheet, "--row", "2", cwd=work_folder).stdout
    assert "[/b] sea 1 :boat:?" in shown
    assert "【[red]calm 1[/]<end>】" in shown
    contender = 'score.contender=[{name="[v2] :boat:", shots=2}]'
    scored = call("score", *sheet, "--before", "--set", contender, cwd=work_folder)
    assert scored.stdout.count("[v2] :boat:") > 1, scored.stderr
