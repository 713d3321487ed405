"""The same training by one process and by two that share each step: the same losses, to rounding.

python examples/two_processes.py [FOLDER]
"""

from __future__ import annotations

import subprocess
import sys
from pathlib import Path

import foldkit
from foldkit.demo import copy_demo

CHANGES = ("train.steps=5", "train.validations=1", "train.micro_batch=4")


def train(sheet: Path, n_processes: int) -> list[float]:
    """Train by the command line and return the loss of each step."""
    words = ["train", "--sheet", str(sheet), "--processes", str(n_processes)]
    words += [word for change in CHANGES for word in ("--set", change)]
    subprocess.run([sys.executable, "-m", "foldkit", *words], check=True, stdout=subprocess.DEVNULL)
    return foldkit.read_log(foldkit.newest_run(sheet.parent / "runs").log).series("step", "loss")[1]


def main(folder: Path) -> None:
    """Train both ways and compare."""
    sheet = copy_demo(folder)
    one, two = train(sheet, 1), train(sheet, 2)
    furthest = max(abs(a - b) / a for a, b in zip(one, two, strict=True))
    print(f"{len(one)} steps; the last loss {one[-1]:.4f} and {two[-1]:.4f}; at most {furthest:.1e} apart")
    if furthest > 1e-3:
        sys.exit(1)


if __name__ == "__main__":
    main(Path(sys.argv[1]) if len(sys.argv) > 1 else Path("pellam-processes"))
