"""Two stages: the plain loss on the picked replies, then the direct objective on top; a scorecard of all three.

python examples/preference_stages.py [FOLDER]
"""

from __future__ import annotations

import sys
from pathlib import Path

import foldkit
from foldkit.demo import copy_demo

FEW = ("train.epochs=1", "train.validations=1", "split.validation=12", "split.test=30", "score.general=")
SECOND = ("train.objective=direct", "train.learning_rate=3e-4")


def main(folder: Path) -> None:
    """Train the first stage, hold it frozen under the second, score the base and both."""
    path = copy_demo(folder, preferences=True)
    first = foldkit.train(foldkit.read_sheet(path, FEW))
    under = f"adapter.over=runs/{first.path.name}/adapter.safetensors"
    beside = f"score.contender=[{{name='first stage', adapter='{first.path.name}'}}]"
    sheet = foldkit.read_sheet(path, [*FEW, *SECOND, under, beside])
    second = foldkit.train(sheet)
    for score in foldkit.score(sheet, second).contenders:
        name = "second stage" if score.name == "adapter" else score.name
        print(f"{name:<13}" + "".join(f"{measure} {found.value:.3f}  " for measure, found in score.measures.items()))
    for note in foldkit.read_log(second.log).of("note"):
        print("!", note["says"])


if __name__ == "__main__":
    main(Path(sys.argv[1]) if len(sys.argv) > 1 else Path("pellam-preferences"))
