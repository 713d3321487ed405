"""From rows to scores in Python: the same work as `foldkit demo`, with less of it, in a folder of its own.

python examples/rows_to_scores.py [FOLDER]
"""

from __future__ import annotations

import sys
from pathlib import Path

import foldkit
from foldkit.demo import copy_demo
from foldkit.training import Checked, TrainEvent

FEW = ("train.epochs=1", "train.validations=2", "split.test=30", "split.test_only={}", "score.contender=[]")


def main(folder: Path) -> None:
    """Build, train, score and ask."""
    sheet = foldkit.read_sheet(copy_demo(folder), FEW)

    dataset = foldkit.build(sheet)
    print({part: counts["rows"] for part, counts in dataset.counts().items()})
    for row in dataset.set_aside:
        print(f"set aside: row {row.row}, {row.reason}")

    def listen(event: TrainEvent) -> None:
        if isinstance(event, Checked):
            print(f"step {event.step}: validation loss {event.validation_loss:.3f}")

    run = foldkit.train(sheet, on_event=listen)
    card = foldkit.score(sheet, run)
    for score in card.contenders:
        print(score.name, {name: round(figure.value, 3) for name, figure in score.measures.items()})

    asked = foldkit.open_asked(run.adapter)
    row = asked.row(
        "Wind from the north, force three, gusts of four. Sea slight. Glass rising.", {"station": "Low Pell"}
    )
    print(asked.answer(row))


if __name__ == "__main__":
    main(Path(sys.argv[1]) if len(sys.argv) > 1 else Path("pellam-sound"))
