"""Free text with a judge: bulletins graded from 1 to 5 by a program, and held against the base's in both orders.

The program is the stand-in that ships; any service can stand behind one that reads and writes the same lines.

python examples/score_free_text.py [FOLDER]
"""

from __future__ import annotations

import sys
from pathlib import Path

import foldkit
from foldkit.demo import copy_demo, copy_sample
from foldkit.scoring.words import judge_lines

FEW = ("train.epochs=0.5", "train.validations=1", "split.test=0.03", "split.test_only={}", "score.general=")
JUDGED = (
    'score.measures=["characters", "words", "length", "ended", "repeats"]',
    f"score.judge.command='{sys.executable} judge.py'",
    'score.judge.criteria={ close = "How close is the answer to the right one?" }',
    "score.judge.pairs=true",
    "score.by=",
    "score.contender=[]",
    'score.reword=["case", "marks"]',
)


def main(folder: Path) -> None:
    """Train for a moment, then score with the judge."""
    path = copy_demo(folder)
    copy_sample("judge.py", folder)
    sheet = foldkit.read_sheet(path, [*FEW, *JUDGED])
    card = foldkit.score(sheet, foldkit.train(sheet))
    print(card.table().pivot(index="contender", columns="measure", values="value").round(3).to_string())
    for line in judge_lines(card):
        print(line)


if __name__ == "__main__":
    main(Path(sys.argv[1]) if len(sys.argv) > 1 else Path("judged"))
