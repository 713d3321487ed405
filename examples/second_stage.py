"""A second training that begins with the adapter of a first one: a broad stage, then the rows that matter most.

python examples/second_stage.py [FOLDER]
"""

from __future__ import annotations

import sys
from pathlib import Path

import foldkit
from foldkit.demo import copy_demo
from foldkit.runs import RunFolder


def lowest(run: RunFolder) -> float:
    """Return the best validation loss of a run."""
    (end,) = foldkit.read_log(run.log).of("finished")
    return float(end["best_validation_loss"])


def main(folder: Path) -> None:
    """Train twice, the second time gently and from where the first one ended."""
    path = copy_demo(folder)
    first = foldkit.train(foldkit.read_sheet(path, ["train.steps=16", "train.validations=1"]))
    gentle = ["train.steps=8", "train.validations=1", "train.learning_rate=1e-3", "train.schedule=linear"]
    begin = f"adapter.begin=runs/{first.path.name}/adapter.safetensors"
    second = foldkit.train(foldkit.read_sheet(path, [*gentle, begin]))
    alone = foldkit.train(foldkit.read_sheet(path, gentle))
    for name, run in (("first", first), ("second", second), ("alone", alone)):
        print(f"{name:<7} best validation loss {lowest(run):.3f}")


if __name__ == "__main__":
    main(Path(sys.argv[1]) if len(sys.argv) > 1 else Path("pellam-stages"))
