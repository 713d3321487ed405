"""Two stages: the plain loss on the picked replies, then the direct objective on top; a scorecard of all three.

python examples/preference_stages.py [FOLDER]
"""

from __future__ import annotations

import json
import sys
from pathlib import Path

import foldkit
from foldkit.demo import copy_demo
from foldkit.runs import RunFolder

FEW = ("train.epochs=1", "train.validations=2", "score.general=")
SECOND = (
    "train.objective=direct",
    "train.epochs=2",
    "train.learning_rate=3e-4",
)


def figures(run: RunFolder) -> dict[str, dict[str, float]]:
    """Return the mean of each measure of each contender of a run's scorecard."""
    card = json.loads(run.scorecard.read_text(encoding="utf-8"))
    return {
        one["name"]: {name: value["value"] for name, value in one["measures"].items()} for one in card["contenders"]
    }


def main(folder: Path) -> None:
    """Train the first stage, hold it frozen under the second, score both."""
    path = copy_demo(folder, preferences=True)
    rows: dict[str, dict[str, float]] = {}
    under: list[str] = []
    for name, changes in {"first": FEW, "second": (*FEW, *SECOND)}.items():
        sheet = foldkit.read_sheet(path, [*changes, *under])
        run = foldkit.train(sheet)
        foldkit.score(sheet, run)
        found = figures(run)
        rows.setdefault("base", found["base"])
        rows[f"{name} stage"] = found["adapter"]
        under = [f"adapter.over=runs/{run.path.name}/adapter.safetensors"]
    for name, measured in rows.items():
        print(f"{name:<13}" + "".join(f"{measure} {value:.3f}  " for measure, value in measured.items()))
    for note in foldkit.read_log(run.log).of("note"):
        print("!", note["says"])


if __name__ == "__main__":
    main(Path(sys.argv[1]) if len(sys.argv) > 1 else Path("pellam-preferences"))
