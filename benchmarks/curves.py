"""How fast a long log is opened and drawn, and how fast many runs are listed.

A log of 1,000,000 steps as the writer makes them, opened and drawn into a PNG; 1,000 runs of 200 steps each, listed.
The last line has the figures: the best of several turns, and the median, in seconds.

    python benchmarks/curves.py --lines 1000000 --runs 1000 --repeats 5
"""

from __future__ import annotations

import argparse
import json
import math
import random
import statistics
import tempfile
import time
from collections.abc import Callable
from pathlib import Path

from foldkit.curves import draw, save_picture
from foldkit.runs import LogWriter, RunFolder, list_runs


def step(number: int, n_steps: int) -> dict[str, object]:
    """Return the figures of a step, of nine digits as the writer's."""
    loss = (0.3 + 3 * math.exp(-6 * number / n_steps)) * math.exp(0.1 * random.gauss(0, 1))
    figures = {
        "epoch": 7 * number / n_steps,
        "loss": loss,
        "smoothed_loss": loss,
        "token_accuracy": random.random(),
        "gradient_norm": random.random(),
        "update_ratio": random.random() * 1e-3,
        "learning_rate": 3e-3 * (1 - number / n_steps),
    }
    speed = {"tokens_per_second": 1e4 * random.random(), "seconds": number / 3, "to_go": (n_steps - number) / 3}
    counts = {"n_tokens": number * 512, "n_examples": number * 8}
    all_ = {**figures, **counts, **speed, "peak_bytes": 502_000_000}
    return {key: float(f"{value:.9g}") if isinstance(value, float) else value for key, value in all_.items()}


def make_run(folder: Path, n_steps: int) -> RunFolder:
    """Write a run of so many steps, with a validation each hundredth of them, as a training writes it."""
    folder.mkdir(parents=True)
    run = RunFolder(folder)
    run.sheet.write_text(json.dumps({"folder": "../..", "base": {"model": "pellam"}, "train": {"epochs": 7.0}}))
    writer = LogWriter(run.log)
    writer.write("started", step=0, n_steps=n_steps, n_train=420, n_validation=50)
    now, every = "2026-01-01T00:00:00+00:00", max(1, n_steps // 100)
    with run.log.open("a") as file:
        for number in range(1, n_steps + 1):
            line = {"event": "step", "time": now, "step": number, **step(number, n_steps)}
            file.write(json.dumps(line) + "\n")
            if number % every == 0:
                check = {
                    "step": number,
                    "validation_loss": line["loss"],
                    "best": number == every,
                    "seconds": number / 3,
                }
                file.write(json.dumps({"event": "validation", "time": now, **check}) + "\n")
    best = {"best_step": every, "best_validation_loss": 0.3, "seconds": n_steps / 3}
    writer.write("finished", step=n_steps, reason="done", **best)
    return run


def timed(work: Callable[[], object], repeats: int) -> list[float]:
    """Return the seconds of each turn."""
    taken = []
    for _ in range(repeats):
        began = time.perf_counter()
        work()
        taken.append(time.perf_counter() - began)
    return taken


def main() -> None:
    """Measure and print."""
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--lines", type=int, default=1_000_000)
    parser.add_argument("--runs", type=int, default=1000)
    parser.add_argument("--repeats", type=int, default=8)
    asked = parser.parse_args()
    random.seed(1)
    with tempfile.TemporaryDirectory() as name:
        folder = Path(name)
        long = make_run(folder / "long", asked.lines)
        print(f"a log of {asked.lines:,} steps, {long.log.stat().st_size / 1e6:.0f} MB")
        draw(make_run(folder / "short", 100))  # what is imported once is not counted
        drawn = timed(lambda: save_picture([long], folder / "long.png"), asked.repeats)
        for number in range(asked.runs):
            make_run(folder / "runs" / f"run-{number:04d}", 200)
        listed = timed(lambda: list_runs(folder / "runs"), asked.repeats)
    print(f"opened and drawn: {', '.join(f'{one:.2f}' for one in drawn)} s")
    print(f"{asked.runs:,} runs listed: {', '.join(f'{one:.2f}' for one in listed)} s")
    figures = {"draw_seconds": min(drawn), "list_seconds": min(listed)}
    medians = {"draw_median": statistics.median(drawn), "list_median": statistics.median(listed)}
    print(json.dumps({key: round(value, 3) for key, value in (figures | medians).items()}))


if __name__ == "__main__":
    main()
