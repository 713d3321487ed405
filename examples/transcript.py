"""A transcript to a dataset: who said what becomes conversations, an example for each reply of the desk.

python examples/transcript.py [FOLDER]
"""

from __future__ import annotations

import sys
from pathlib import Path

import foldkit
from foldkit.demo import copy_sample


def main(folder: Path) -> None:
    """Write a starter sheet, say what it assumed, build, and print one example as the model reads it."""
    copy_sample("radio.csv", folder)
    started = foldkit.start("radio.csv", folder)
    for sentence in started.assumed:
        print("assumed:", sentence)

    sheet = foldkit.read_sheet(started.sheet, ["rows.transcript.earlier=4"])
    inputs = foldkit.open_inputs(sheet)
    dataset = foldkit.build(sheet, inputs)
    print({part: counts["rows"] for part, counts in dataset.counts().items()})

    example = dataset.parts["train"][7]
    start, end = example.spans[-1]
    decode = inputs.side.tokenizer.decode
    print(decode(example.ids[:start], keep_control=True) + "[" + decode(example.ids[start:end]) + "]")


if __name__ == "__main__":
    main(Path(sys.argv[1]) if len(sys.argv) > 1 else Path("radio"))
