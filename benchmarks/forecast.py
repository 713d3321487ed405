"""The forecast against what a training then takes: peak memory above the level after imports, and the median step.

Seven settings with the demo's notes and three with its pairs, on the base that ships and on those that are named;
`--rows` takes the ones or the others alone. Memory is that of a forecast and of trainings of `--steps` steps, each in a
process of its own: of three the median, for the gaps that the allocator leaves differ from process to process; their
range stands beside it. Steps are compared within one process, a training between two forecasts, for the speed of a
machine moves; in several turns, of which the median counts. The last line is one JSON object.

    python benchmarks/forecast.py real/chat-135m.gguf
"""

from __future__ import annotations

import argparse
import importlib
import json
import statistics
import subprocess
import sys
import tempfile
from pathlib import Path

import foldkit
from foldkit.demo import copy_demo
from foldkit.models import chosen_device
from foldkit.training.memory import forget_peak, start_torch

# By the rows that they are for: the demo's notes, or its pairs.
SETTINGS = {
    "notes": (
        [],
        ["train.batch=16"],
        ["train.micro_batch=2"],
        ["train.batch=16", "train.micro_batch=16", "train.packing=false"],
        ["train.recompute=true"],
        ["base.weights=int8", "adapter.rank=32"],
        ["adapter.magnitude=true", "adapter.dropout=0.1"],
    ),
    "picks": ([], ["train.objective='direct'"], ["train.objective='unpaired'"]),
}
# What a training is forgiven where its peak is small.
FORGIVEN = 64e6
# Trainings are made in turns with forecasts until so many seconds of steps were seen, in so many turns at least and at
# most: a machine that stalls spoils one.
LONG_ENOUGH, FEWEST, TURNS = 10.0, 3, 15
# How many trainings the memory is the median of.
TRAININGS = 3


def forecast(sheet_at: Path, changes: list[str]) -> dict[str, float]:
    """Return what the forecast says."""
    found = foldkit.forecast(foldkit.read_sheet(sheet_at, changes))
    assert found.duration
    return {"peak": found.memory.peak, "step": found.duration.step}


def train(sheet_at: Path, changes: list[str]) -> dict[str, float]:
    """Return what a training took, above what is there once everything is imported."""
    for name in ("matplotlib.figure", "pandas", "pyarrow", "safetensors.torch", "foldkit.training", "foldkit.work"):
        importlib.import_module(name)
    sheet = foldkit.read_sheet(sheet_at, changes)
    foldkit.build(sheet)
    start_torch()
    before = forget_peak(chosen_device(sheet.base.device))
    log = foldkit.read_log(foldkit.train(sheet).log)
    rates = [step["tokens_per_second"] for step in log.of("step")]
    tokens = [step["n_tokens"] for step in log.of("step")]
    sizes = [b - a for a, b in zip([0, *tokens], tokens, strict=False)]
    seconds = [size / rate for size, rate in zip(sizes, rates, strict=True)]
    peak, step = log.of("finished")[0]["peak_bytes"] - before, statistics.median(seconds[1:])
    return {"peak": peak, "step": step, "n_steps": len(seconds)}


def both(sheet_at: Path, changes: list[str]) -> dict[str, float]:
    """Return what the forecast says of memory and of a step, and what a step took: the turn of the median ratio.

    What is said in a turn is the mean of a forecast before and one after the training.
    """
    before, turns, seen = forecast(sheet_at, changes), list[tuple[float, float]](), 0.0
    said = before["step"]
    while len(turns) < FEWEST or (seen < LONG_ENOUGH and len(turns) < TURNS):
        trained = train(sheet_at, changes)
        after = forecast(sheet_at, changes)["step"]
        turns.append(((said + after) / 2, trained["step"]))
        said, seen = after, seen + trained["step"] * trained["n_steps"]
    step, took = sorted(turns, key=lambda turn: turn[0] / turn[1])[len(turns) // 2]
    return {"peak": before["peak"], "step": step, "took": took}


def measured(kind: str, sheet_at: Path, changes: list[str]) -> dict[str, float]:
    """Return what a process of its own prints."""
    words = [sys.executable, __file__, str(sheet_at), "--only", kind, "--changes", json.dumps(changes)]
    done = subprocess.run(words, check=True, capture_output=True, text=True)
    found: dict[str, float] = json.loads(done.stdout.splitlines()[-1])
    return found


def main() -> None:
    """Compare and print."""
    parser = argparse.ArgumentParser(description=(__doc__ or "").splitlines()[0])
    parser.add_argument("bases", type=Path, nargs="*")
    parser.add_argument("--steps", type=int, default=8)
    parser.add_argument("--rows", choices=tuple(SETTINGS), nargs="+", default=list(SETTINGS))
    parser.add_argument("--only", choices=("both", "train"))
    parser.add_argument("--changes", default="[]")
    options = parser.parse_args()
    if options.only:
        print(json.dumps({"both": both, "train": train}[options.only](*options.bases, json.loads(options.changes))))
        return
    errors: dict[str, list[float]] = {"memory": [], "time": []}
    print(f"{'base':<8}{'MB said':>9}{'MB took':>9}{'from':>7}{'to':>7}{'s said':>8}{'s took':>8}  settings")
    with tempfile.TemporaryDirectory() as folder:
        sheets = {kind: copy_demo(Path(folder) / kind, preferences=kind == "picks") for kind in options.rows}
        cases = [(kind, settings) for kind in options.rows for settings in SETTINGS[kind]]
        named = [(base.stem[:7], str(base.resolve())) for base in options.bases]
        for name, base in (("pellam", "pellam"), *named):
            for kind, settings in cases:
                sheet_at = sheets[kind]
                own = [f"base.model='{base}'", f"train.steps={options.steps}", "train.validations=1", *settings]
                said = measured("both", sheet_at, own)
                peaks = [measured("train", sheet_at, own)["peak"] for _ in range(TRAININGS)]
                peak = statistics.median(peaks)
                errors["memory"].append(max(0.0, abs(said["peak"] - peak) - FORGIVEN) and abs(said["peak"] / peak - 1))
                errors["time"].append(abs(said["step"] / said["took"] - 1))
                print(
                    f"{name:<8}{said['peak'] / 1e6:>9,.0f}{peak / 1e6:>9,.0f}"
                    f"{min(peaks) / 1e6:>7,.0f}{max(peaks) / 1e6:>7,.0f}"
                    f"{said['step']:>8.2f}{said['took']:>8.2f}  {kind}: {' '.join(settings) or 'as shipped'}",
                    flush=True,
                )
    print(json.dumps({f"worst_{name}_error": round(max(values), 3) for name, values in errors.items()}))


if __name__ == "__main__":
    main()
