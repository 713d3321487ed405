"""A training alone and beside a busy program, its threads giving way as in the command, and waiting in one way alone.

The demo's training, cut to `--steps`, in a process of its own each time, the other program there from the start or
coming after the first step; all take turns, medians of their seconds a step in the second half of the steps. The last
line is one JSON object.

    python benchmarks/busy.py
"""

from __future__ import annotations

import argparse
import contextlib
import itertools
import json
import os
import statistics
import subprocess
import sys
import tempfile
import time
from collections.abc import Iterator
from pathlib import Path
from typing import Any

import foldkit
from foldkit.demo import copy_demo
from foldkit.runs import RunFolder

# Without another program, with one from the start, with one that comes after the first step.
COMPANY = ("alone", "beside", "later")
# As the command lets them wait, by what else runs; always sleeping soon, and as libgomp does by itself.
WAITS: dict[str, dict[str, str]] = {
    "chosen": {},
    "soon": {"GOMP_SPINCOUNT": "1000"},
    "late": {"GOMP_SPINCOUNT": "300000"},
}


@contextlib.contextmanager
def busy() -> Iterator[None]:
    """Let another program be at work meanwhile."""
    other = subprocess.Popen([sys.executable, "-c", "while True: pass"])
    try:
        yield
    finally:
        other.kill()
        other.wait()


def seconds_a_step(sheet: Path, name: str, n_steps: int, base: str, waiting: dict[str, str], company: str) -> float:
    """Train, and return the median of the seconds from step to step in the second half."""
    changes = [f"train.steps={n_steps}", "train.validations=1", f"base.model='{base}'"]
    words = ["train", "--sheet", str(sheet), "--name", name]
    words += [word for change in changes for word in ("--set", change)]
    command, log = [sys.executable, "-m", "foldkit", *words], RunFolder(sheet.parent / "runs" / name).log
    with contextlib.ExitStack() as meanwhile:
        if company == "beside":
            meanwhile.enter_context(busy())
        training = subprocess.Popen(command, env=os.environ | waiting, stdout=subprocess.PIPE, stderr=subprocess.STDOUT)
        if company == "later":
            while training.poll() is None and not steps_of(log):
                time.sleep(0.05)
            meanwhile.enter_context(busy())
        said, _ = training.communicate()
    assert training.returncode == 0, said.decode()
    steps = steps_of(log)[n_steps // 2 - 1 :]
    return statistics.median(after["seconds"] - step["seconds"] for step, after in itertools.pairwise(steps))


def steps_of(log: Path) -> list[dict[str, Any]]:
    """Return the steps that a log has so far."""
    return foldkit.read_log(log).of("step") if log.exists() else []


def main() -> None:
    """Measure and print."""
    parser = argparse.ArgumentParser(description=(__doc__ or "").splitlines()[0])
    parser.add_argument("--base", default="pellam")
    parser.add_argument("--steps", type=int, default=24)
    parser.add_argument("--repeats", type=int, default=3)
    options = parser.parse_args()
    base = options.base if options.base == "pellam" else str(Path(options.base).resolve())
    found: dict[str, list[float]] = {}
    with tempfile.TemporaryDirectory() as folder:
        sheet = copy_demo(Path(folder) / "demo")
        for turn, company, (how, waiting) in itertools.product(range(options.repeats), COMPANY, WAITS.items()):
            took = seconds_a_step(sheet, f"{turn}-{company}-{how}", options.steps, base, waiting, company)
            print(f"turn {turn}, {company}, {how}: {took:.3f} s a step", flush=True)
            found.setdefault(f"{how}_{company}", []).append(took)
    middle = {name: round(statistics.median(times), 3) for name, times in found.items()}
    ratios = {
        f"{how}_over_chosen_{where}": round(middle[f"{how}_{where}"] / middle[f"chosen_{where}"], 2)
        for where in COMPANY
        for how in list(WAITS)[1:]
    }
    print(json.dumps(middle | ratios))


if __name__ == "__main__":
    main()
