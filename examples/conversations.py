"""Conversations to a dataset: every reply of every conversation is learned, those of one day stay in one part.

python examples/conversations.py [FOLDER]
"""

from __future__ import annotations

import sys
from pathlib import Path

import foldkit
from foldkit.demo import copy_sample


def main(folder: Path) -> None:
    """Write a starter sheet, group it by day, hold its template against the rows, build, and show what leaks."""
    copy_sample("talks.jsonl", folder)
    started = foldkit.start("talks.jsonl", folder)
    sheet = foldkit.read_sheet(started.sheet, ["split.group=day"])

    inputs = foldkit.open_inputs(sheet)
    for finding in foldkit.lint(inputs):
        print("template:", finding.name, finding.says)
    dataset = foldkit.build(sheet, inputs)
    print({part: counts["rows"] for part, counts in dataset.counts().items()})

    example = dataset.parts["train"][0]
    for start, end in example.spans:
        print("learned:", inputs.side.tokenizer.decode(example.ids[start:end]))
    print("rows outside train that stand in train too:", len(foldkit.split(sheet).leaks))


if __name__ == "__main__":
    main(Path(sys.argv[1]) if len(sys.argv) > 1 else Path("talks"))
