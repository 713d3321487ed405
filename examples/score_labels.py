"""A label task: what the glass does, from a note; scored by right labels, F1 over labels, and what is confused.

python examples/score_labels.py [FOLDER]
"""

from __future__ import annotations

import sys
from pathlib import Path

import pandas as pd

import foldkit
from foldkit.demo import copy_sample

SHEET = """
[rows]
source = "glass.csv"
[template]
use = "label"
[split]
test = 40
balance = "label"
[train]
epochs = 0.5
batch = 8
learning_rate = 3e-3
validations = 2
[score]
measures = ["loss", "label", "f1"]
by = "label"
max_tokens = 6
[[score.contender]]
name = "base with 3 shots"
shots = 3
"""


def main(folder: Path) -> None:
    """Make labels of the bulletins, score before a training, train, score again."""
    notes = pd.read_csv(copy_sample("notes.csv", folder))
    labels = notes.bulletin.str.extract(r"Glass (\w+)", expand=False)
    pd.DataFrame({"text": notes.note, "label": labels}).to_csv(folder / "glass.csv", index=False)
    (folder / "fold.toml").write_text(SHEET, encoding="utf-8")
    sheet = foldkit.read_sheet(folder / "fold.toml")
    before = foldkit.score(sheet, None)
    card = foldkit.score(sheet, foldkit.train(sheet))
    for score in (*before.contenders, card.contender("adapter")):
        print(score.name, {name: round(figure.value, 3) for name, figure in score.measures.items()})
    for target, answer, count in card.confused[:3]:
        print(f"{target} was called {answer} in {count} rows")


if __name__ == "__main__":
    main(Path(sys.argv[1]) if len(sys.argv) > 1 else Path("glass"))
