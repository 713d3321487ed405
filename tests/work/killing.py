"""Trainings killed at named points, each then resumed in a fresh process: a program of its own, for it forks.

python -m tests.work.killing FOLDER    prints one JSON object: for each point whether the adapter's bytes agree
"""

from __future__ import annotations

import gc
import json
import os
import random
import signal
import sys
from collections.abc import Callable
from pathlib import Path
from typing import Any

import torch

import foldkit
from foldkit import curves
from foldkit.formats import atomic
from foldkit.runs import LogWriter, RunFolder
from foldkit.training import TrainEvent, loop

CHANGES = ["train.steps=8", "train.batch=4", "train.validations=4", "train.checkpoint_every=2", "adapter.dropout=0.1"]
_REPLACE, _FSYNC, _WRITE, _TALLIES = os.replace, os.fsync, LogWriter.write, loop.tallies


def die() -> None:
    os.kill(os.getpid(), signal.SIGKILL)


def after_calls(n: int, then: Callable[..., Any], also: Callable[..., Any]) -> Callable[..., Any]:
    """Return a function that does `also` until its n-th call, when it does `then`."""
    seen = 0

    def counted(*args: Any, **named: Any) -> Any:
        nonlocal seen
        seen += 1
        return (then if seen == n else also)(*args, **named)

    return counted


def half_written(handle: int) -> None:
    os.ftruncate(handle, os.fstat(handle).st_size // 2)
    die()


def renamed_then_dead(source: str, target: Path) -> None:
    _REPLACE(source, target)
    die()


def half_a_line(log: LogWriter, event: str, **figures: Any) -> None:
    with log.path.open("a") as file:
        file.write(json.dumps({"event": event, **figures})[:20])
    die()


def set_up(kind: str, n: int) -> Callable[[TrainEvent], None]:
    """Arrange for death at the n-th time of a kind of point; return the listener."""
    if kind == "in the middle of a file":
        atomic.os.fsync = after_calls(n, half_written, _FSYNC)  # type: ignore[attr-defined]
    elif kind == "before a rename":
        atomic.os.replace = after_calls(n, lambda *_: die(), _REPLACE)  # type: ignore[attr-defined]
    elif kind == "after a rename":
        atomic.os.replace = after_calls(n, renamed_then_dead, _REPLACE)  # type: ignore[attr-defined]
    elif kind == "in a line of the log":
        LogWriter.write = after_calls(n, half_a_line, _WRITE)  # type: ignore[method-assign]
    elif kind == "in validation":
        loop.tallies = after_calls(n, lambda *_: die(), _TALLIES)  # type: ignore[attr-defined]
    return after_calls(n, lambda _: die(), lambda _: None) if kind == "between events" else lambda _: None


def in_a_child(work: Callable[[], object]) -> int:
    """Fork, work there, and return how the child ended."""
    child = os.fork()
    if child == 0:
        try:
            work()
        except BaseException as error:
            sys.stderr.write(f"child: {error!r}\n")
            os._exit(1)
        os._exit(0)
    return os.waitpid(child, 0)[1]


def main() -> None:
    torch.set_num_threads(1)
    curves.save_picture = lambda *_: None  # most of the time of so short a training
    folder, draw = Path(sys.argv[1]), random.Random(20)
    sheet = foldkit.read_sheet(folder / "fold.toml", CHANGES)
    foldkit.build(sheet)
    # In this process, so that the children find everything imported.
    whole = foldkit.train(sheet, "whole")
    gc.freeze()  # each child would look through it all for garbage, and copy it by that
    # How often each kind of point comes up in this training, the first files being the sheet's.
    kinds = {
        "between events": 20,
        "in the middle of a file": 8,
        "before a rename": 8,
        "after a rename": 8,
        "in a line of the log": 15,
        "in validation": 4,
    }
    points = [
        (kind, n) for kind, most in kinds.items() for n in sorted(draw.sample(range(2, most + 1), min(most - 1, 5)))
    ]
    found = {}
    for number, (kind, n) in enumerate(points):
        name = f"killed-{number}"
        ended = in_a_child(lambda: foldkit.train(sheet, name, set_up(kind, n)))  # noqa: B023 (called at once)
        run = RunFolder(sheet.path("runs") / name)
        resumed = in_a_child(lambda: foldkit.resume(run))  # noqa: B023
        same = run.adapter.exists() and run.adapter.read_bytes() == whole.adapter.read_bytes()
        steps = [e["loss"] for e in foldkit.read_log(run.log).of("step")]
        same_log = steps == [e["loss"] for e in foldkit.read_log(whole.log).of("step")]
        tidy = sorted(path.name for path in run.path.rglob(".*")) == [run.lock.name]
        found[f"{kind}, {n}"] = [os.WTERMSIG(ended) == signal.SIGKILL, resumed == 0, same, same_log, tidy]
    sys.stdout.write(json.dumps(found) + "\n")


if __name__ == "__main__":
    main()
