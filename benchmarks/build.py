"""A CSV of a million short rows to a built dataset, against the tokenizer library's own batch encoding of its texts.

The library is given the same texts in calls of the same size, and only its calls are timed. Both run in processes of
their own, one after the other, `--repeats` times; the ratio is that of the best times, as a stalling machine only adds
to a time, and the median of the ratios stands beside it. The checks, of which the search for near copies takes longest,
are no part of it; they are timed by themselves on fewer rows. The last line is one JSON object of the figures.

    python benchmarks/build.py --rows 1000000 --repeats 3
"""

from __future__ import annotations

import argparse
import contextlib
import csv
import json
import multiprocessing
import random
import resource
import statistics
import tempfile
import time
from collections.abc import Iterator
from importlib import resources
from pathlib import Path
from typing import Any

from foldkit.tokens.tokenizer import BATCH

SHEET = """
[rows]
source = "rows.csv"
[template]
use = "question"
[split]
validation = 0.01
test = 0.01
[train]
window = 256
"""


def write_rows(path: Path, n_rows: int) -> None:
    """Write short reports and the lines of a bulletin that answer them, each row unlike the others."""
    with (resources.files("foldkit.demo") / "data" / "notes.csv").open(encoding="utf-8", newline="") as file:
        rows = [row for row in csv.DictReader(file) if len(row["note"]) > 40 and ". " in row["bulletin"]]
    chance = random.Random(5)
    with path.open("w", encoding="utf-8", newline="") as file:
        writer = csv.writer(file)
        writer.writerow(["question", "answer"])
        for number in range(n_rows):
            row = chance.choice(rows)
            note = row["note"].split(". ")[0].split(", ")
            chance.shuffle(note)
            # A number in both makes every text another one, as texts that stand twice are encoded once.
            answer = ". ".join(row["bulletin"].split(". ")[:2])
            writer.writerow([f"{number}: {', '.join(note)}", f"{answer}. Report {number}."])


def build(folder: Path) -> dict[str, float]:
    """Build the dataset from nothing, as a process does that has imported what it needs."""
    from foldkit.work import build, read_sheet

    for path in (folder / "built").glob("*"):
        path.unlink()
    before, start = peak_mb(), time.perf_counter()
    dataset = build(read_sheet(folder / "fold.toml"))
    seconds = time.perf_counter() - start
    start = time.perf_counter()
    build(read_sheet(folder / "fold.toml")).parts["train"][12345]
    counts = dataset.counts().values()
    return {
        "seconds": seconds,
        "open_seconds": time.perf_counter() - start,
        "imports_mb": before,
        "peak_mb": peak_mb(),
        "rows": sum(n["rows"] for n in counts),
        "tokens": sum(n["tokens"] for n in counts),
    }


def check(folder: Path) -> dict[str, float]:
    """Check the rows of a dataset that is built already."""
    from foldkit.work import build, check, open_inputs, read_sheet

    sheet = read_sheet(folder / "fold.toml")
    inputs = open_inputs(sheet)
    dataset = build(sheet, inputs)
    start = time.perf_counter()
    found = check(sheet, inputs, dataset)
    return {
        "seconds": time.perf_counter() - start,
        "peak_mb": peak_mb(),
        "near": sum(len(one.rows) for one in found if one.name == "near duplicates"),
    }


def encode(folder: Path) -> dict[str, float]:
    """Encode the same texts with the library's fast batch call alone, ids left where they are."""
    from tokenizers import Tokenizer

    from foldkit.demo import PELLAM

    tokenizer = Tokenizer.from_file(str(PELLAM / "tokenizer.json"))
    seconds, n_texts = 0.0, 0
    for texts in pieces(folder / "rows.csv"):
        start = time.perf_counter()
        tokenizer.encode_batch_fast(texts, add_special_tokens=False)
        seconds += time.perf_counter() - start
        n_texts += len(texts)
    return {"seconds": seconds, "texts": n_texts}


def pieces(path: Path) -> Iterator[list[str]]:
    """Yield the row texts in the order in which building encodes them."""
    with path.open(encoding="utf-8", newline="") as file:
        texts: list[str] = []
        for cells in list(csv.reader(file))[1:]:
            texts += cells
            if len(texts) == BATCH:
                yield texts
                texts = []
        yield texts


def peak_mb() -> float:
    """Return the peak memory of this process so far, in MB, as the kernel counts it."""
    return resource.getrusage(resource.RUSAGE_SELF).ru_maxrss / 1024


def alone(work: Any, folder: Path) -> dict[str, float]:
    """Run in a fresh process."""
    with multiprocessing.get_context("spawn").Pool(1) as pool:
        found: dict[str, float] = pool.apply(work, (folder,))
        return found


@contextlib.contextmanager
def written(n_rows: int) -> Iterator[Path]:
    """Yield a folder with so many rows and a sheet."""
    with tempfile.TemporaryDirectory() as name:
        folder = Path(name)
        (folder / "fold.toml").write_text(SHEET)
        write_rows(folder / "rows.csv", n_rows)
        size = (folder / "rows.csv").stat().st_size / 2**20
        print(f"{n_rows:,} rows, {size:.0f} MB of CSV")
        yield folder


def main() -> None:
    """Write the rows, measure, and print."""
    parser = argparse.ArgumentParser(description=__doc__.splitlines()[0])
    parser.add_argument("--rows", type=int, default=1_000_000)
    parser.add_argument("--repeats", type=int, default=3)
    parser.add_argument("--checked", type=int, default=200_000, metavar="ROWS")
    options = parser.parse_args()
    with written(options.rows) as folder:
        times: list[tuple[float, float]] = []
        built: dict[str, float] = {}
        for repeat in range(options.repeats):
            built, plain = alone(build, folder), alone(encode, folder)
            times.append((built["seconds"], plain["seconds"]))
            print(
                f"{repeat + 1}: built in {built['seconds']:.1f} s, peak {built['peak_mb']:.0f} MB "
                f"({built['imports_mb']:.0f} MB of it imports), opened again in {built['open_seconds']:.2f} s; "
                f"batch encoding alone {plain['seconds']:.1f} s; ratio {times[-1][0] / times[-1][1]:.2f}"
            )
    with written(options.checked) as folder:
        alone(build, folder)
        checked = alone(check, folder)
        print(
            f"checked in {checked['seconds']:.1f} s, peak {checked['peak_mb']:.0f} MB; {checked['near']:,} near copies"
        )
    best = min(seconds for seconds, _ in times)
    figures = {
        "ratio_to_tokenizer": round(best / min(seconds for _, seconds in times), 3),
        "median_of_ratios": round(statistics.median(built / plain for built, plain in times), 3),
        "rows_per_second": round(options.rows / best),
        "peak_mb": round(built["peak_mb"]),
        "rows": options.rows,
        "checked_rows_per_second": round(options.checked / checked["seconds"]),
        "checked_peak_mb": round(checked["peak_mb"]),
        "tokens": int(built["tokens"]),
    }
    print(json.dumps(figures))


if __name__ == "__main__":
    main()
