"""Preference rows to a dataset: the chosen reply is learned, test rows are balanced over the flaws of the others.

python examples/preferences.py [FOLDER]
"""

from __future__ import annotations

import sys
from collections import Counter
from pathlib import Path

import foldkit
from foldkit.demo import copy_sample


def main(folder: Path) -> None:
    """Write a starter sheet, balance the split, check the rows, build."""
    copy_sample("picks.jsonl", folder)
    started = foldkit.start("picks.jsonl", folder)
    sheet = foldkit.read_sheet(started.sheet, ["split.balance=flaw", "split.test=60", "split.validation=30"])

    inputs = foldkit.open_inputs(sheet)
    dataset = foldkit.build(sheet, inputs)
    for part, examples in dataset.parts.items():
        flaws = Counter(inputs.table.loc[examples.rows, "flaw"])
        print(part, dict(sorted(flaws.items())))
    for finding in foldkit.check(sheet, inputs, dataset):
        print("found:", len(finding.rows), finding.name, finding.says)


if __name__ == "__main__":
    main(Path(sys.argv[1]) if len(sys.argv) > 1 else Path("picks"))
