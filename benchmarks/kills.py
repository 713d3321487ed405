"""A training killed again and again at random moments, each time resumed, against one that was left alone.

The last line is one JSON object: how often it was killed, and whether the bytes of the adapters agree.

    python benchmarks/kills.py --kills 10
"""

from __future__ import annotations

import argparse
import json
import random
import subprocess
import sys
import tempfile
import time
from pathlib import Path

import foldkit
from foldkit.demo import copy_demo
from foldkit.runs import RunFolder

CHANGES = ["train.steps=250", "train.validations=3", "train.checkpoint_every=5"]


def started(folder: Path, *words: str) -> subprocess.Popen[bytes]:
    """Start `foldkit train` in a folder."""
    command = [sys.executable, "-m", "foldkit", "train", *words]
    return subprocess.Popen(command, cwd=folder, stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL)


def n_logged(run: RunFolder) -> int:
    """Return how many steps the log holds."""
    return len(foldkit.read_log(run.log).of("step")) if run.log.exists() else 0


def main() -> None:
    """Train, kill, resume, compare."""
    parser = argparse.ArgumentParser(description=(__doc__ or "").splitlines()[0])
    parser.add_argument("--kills", type=int, default=10)
    parser.add_argument("--seed", type=int, default=0)
    options = parser.parse_args()
    draw = random.Random(options.seed)
    with tempfile.TemporaryDirectory() as place:
        folder = Path(place) / "demo"
        sheet = foldkit.read_sheet(copy_demo(folder), CHANGES)
        whole = foldkit.train(sheet, "whole")
        run = RunFolder(folder / "runs" / "killed")
        settings = [word for change in CHANGES for word in ("--set", change)]
        child = started(folder, *settings, "--name", "killed")
        n_killed = 0
        while n_killed < options.kills:
            # At any moment from the first sign of life, so that starting and reading count too.
            time.sleep(draw.uniform(0.5, 9))
            if child.poll() is not None:
                break
            child.kill()
            child.wait()
            n_killed += 1
            print(f"killed after {n_logged(run)} logged steps")
            if not run.sheet.exists():
                child = started(folder, *settings, "--name", f"killed-{n_killed}")
                run = RunFolder(folder / "runs" / f"killed-{n_killed}")
                continue
            child = started(folder, "--resume", run.path.name)
        child.wait()
        foldkit.resume(run)
        same = run.adapter.read_bytes() == whole.adapter.read_bytes()
    print(json.dumps({"kills": n_killed, "same_bytes": same}))


if __name__ == "__main__":
    main()
