"""A training alone and beside a busy program, its threads waiting as in the command and as they do by themselves.

The demo's training, cut to `--steps`, in a process of its own each time; all take turns, medians of their seconds
a step. The last line is one JSON object.

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
from collections.abc import Iterator
from pathlib import Path

import foldkit
from foldkit.demo import copy_demo
from foldkit.runs import RunFolder

# As the command lets them wait, by what runs as it starts; always so beside others, and as libgomp does by itself.
WAITS: dict[str, dict[str, str]] = {
    "chosen": {},
    "soon": {"GOMP_SPINCOUNT": "1000"},
    "late": {"GOMP_SPINCOUNT": "300000"},
}


@contextlib.contextmanager
def busy(n: int) -> Iterator[None]:
    """Let so many other programs be at work meanwhile."""
    others = [subprocess.Popen([sys.executable, "-c", "while True: pass"]) for _ in range(n)]
    try:
        yield
    finally:
        for other in others:
            other.kill()
            other.wait()


def seconds_a_step(sheet: Path, name: str, n_steps: int, base: str, waiting: dict[str, str]) -> float:
    """Train, and return the median of the seconds from step to step."""
    changes = [f"train.steps={n_steps}", "train.validations=1", f"base.model='{base}'"]
    words = ["train", "--sheet", str(sheet), "--name", name]
    words += [word for change in changes for word in ("--set", change)]
    command = [sys.executable, "-m", "foldkit", *words]
    subprocess.run(command, env=os.environ | waiting, check=True, capture_output=True)
    steps = foldkit.read_log(RunFolder(sheet.parent / "runs" / name).log).of("step")
    return statistics.median(after["seconds"] - step["seconds"] for step, after in itertools.pairwise(steps))


def main() -> None:
    """Measure and print."""
    parser = argparse.ArgumentParser(description=(__doc__ or "").splitlines()[0])
    parser.add_argument("--base", default="pellam")
    parser.add_argument("--steps", type=int, default=12)
    parser.add_argument("--repeats", type=int, default=3)
    options = parser.parse_args()
    base = options.base if options.base == "pellam" else str(Path(options.base).resolve())
    found: dict[str, list[float]] = {}
    with tempfile.TemporaryDirectory() as folder:
        sheet = copy_demo(Path(folder) / "demo")
        for turn, n_others, (how, waiting) in itertools.product(range(options.repeats), (0, 1), WAITS.items()):
            with busy(n_others):
                took = seconds_a_step(sheet, f"{turn}-{n_others}-{how}", options.steps, base, waiting)
            print(f"turn {turn}, {n_others} others, {how}: {took:.3f} s a step", flush=True)
            found.setdefault(f"{how}_{'beside' if n_others else 'alone'}", []).append(took)
    middle = {name: round(statistics.median(times), 3) for name, times in found.items()}
    ratios = {
        f"{how}_over_chosen_{where}": round(middle[f"{how}_{where}"] / middle[f"chosen_{where}"], 2)
        for where in ("alone", "beside")
        for how in list(WAITS)[1:]
    }
    print(json.dumps(middle | ratios))


if __name__ == "__main__":
    main()
