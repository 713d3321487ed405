"""A training that is stopped and goes on ends with the same bytes as one that was left alone.

python examples/resumed.py [FOLDER]
"""

from __future__ import annotations

import itertools
import sys
from pathlib import Path

import foldkit
from foldkit.demo import copy_demo


def main(folder: Path) -> None:
    """Train once to the end; train again, stop after four steps, go on; compare."""
    sheet = foldkit.read_sheet(copy_demo(folder), ["train.steps=8", "train.validations=1"])
    whole = foldkit.train(sheet)

    steps = itertools.count(1)
    stopped = foldkit.train(sheet, stop=lambda: next(steps) == 4)
    (end,) = foldkit.read_log(stopped.log).of("finished")
    kept = [path.name for path in stopped.checkpoints.iterdir()]
    print(f"{end['reason']} at step {end['step']}; checkpoints: {', '.join(kept)}")

    foldkit.resume(stopped)
    same = stopped.adapter.read_bytes() == whole.adapter.read_bytes()
    print(f"the two adapters are {'the same, byte for byte' if same else 'NOT the same'}")
    if not same:
        sys.exit(1)


if __name__ == "__main__":
    main(Path(sys.argv[1]) if len(sys.argv) > 1 else Path("pellam-resumed"))
