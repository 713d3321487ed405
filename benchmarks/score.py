"""Answers a second of a scoring, in batches against one at a time, and how long 100 rows of two contenders take.

Rows and template are the demo's; a base and an adapter on it, as it begins, are asked, and the loss of each target is
found, as a scoring does. Both ways take turns on the same rows; the gain is the median of the turns' ratios. The last
line is one JSON object.

    python benchmarks/score.py real/chat-135m.gguf --rows 100 --repeats 3
"""

from __future__ import annotations

import argparse
import json
import statistics
import tempfile
import time
from pathlib import Path

import foldkit
from foldkit.adapters import attach
from foldkit.answering import Answerer
from foldkit.demo import copy_demo
from foldkit.models import open_base
from foldkit.rows.tables import rows_of
from foldkit.scoring import Contender, contender_replies


def main() -> None:
    """Measure and print."""
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("base", type=Path)
    parser.add_argument("--rows", type=int, default=100)
    parser.add_argument("--alone", type=int, default=8, help="so many rows of a turn one at a time")
    parser.add_argument("--batch", type=int, default=64)
    parser.add_argument("--repeats", type=int, default=3)
    asked = parser.parse_args()
    with tempfile.TemporaryDirectory() as folder:
        sheet = foldkit.read_sheet(copy_demo(Path(folder)), [f"base.model='{asked.base.resolve()}'"])
        inputs, dataset = foldkit.open_inputs(sheet), foldkit.build(sheet)
        cells = dict(rows_of(inputs.table))
        rows = [cells[example.row] for example in dataset.parts["test"]][: asked.rows]
        most = max(example.n_learned for example in dataset.parts["test"]) * 5 // 4 + 8
        base = open_base(sheet.base_path())
        adapter = attach(base.decoder, sheet.adapter)
        answerer = Answerer(base.decoder, inputs.side, inputs.template, inputs.markup, adapter)

        def taken(adapted: bool, these: list[dict[str, str]], batch: int) -> float:
            began = time.perf_counter()
            one = Contender("one", answerer, adapted)
            contender_replies(one, these, one.prompts(these), most, batch)
            return time.perf_counter() - began

        ratios = []
        for turn in range(asked.repeats):
            these = [rows[(turn * asked.batch + index) % len(rows)] for index in range(asked.batch)]
            together = asked.batch / taken(True, these, asked.batch)
            alone = asked.alone / taken(True, these[:: asked.batch // asked.alone][: asked.alone], 1)
            ratios.append(together / alone)
            print(f"turn {turn + 1}: {together:.2f} answers/s together, {alone:.2f} alone, {ratios[-1]:.2f} times")
        whole = sum(taken(adapted, rows, asked.batch) for adapted in (False, True))
    print(f"{len(rows)} rows of two contenders, answers of at most {most} tokens: {whole:.0f} s")
    figures = {"batched_gain": statistics.median(ratios), "seconds": whole, "rows": len(rows)}
    print(json.dumps({key: round(value, 3) for key, value in figures.items()}))


if __name__ == "__main__":
    main()
