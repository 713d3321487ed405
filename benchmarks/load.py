"""Opening a base and holding its weights: seconds to the header and the first answer, bytes, loss, and steps.

Every way of holding weights runs in a process of its own, one after the other, `--repeats` times; times are the best of
them. A step is the gradient of an adapter on every map, over at least 1,000 tokens in one pass; its memory is the
kernel's own peak above the level after imports. The last line is one JSON object.

    python benchmarks/load.py real/chat-135m.gguf --repeats 2
"""

from __future__ import annotations

import argparse
import itertools
import json
import math
import multiprocessing
import statistics
import time
from pathlib import Path
from typing import Any

N_TOKENS, N_ROWS = 256, 4


def peak_now_mb() -> float:
    """Return the memory of this process now, in MB, as the kernel counts it."""
    fields = Path("/proc/self/status").read_text().splitlines()
    return next(int(line.split()[1]) / 1024 for line in fields if line.startswith("VmRSS"))


def measure(path: Path, weights: str) -> dict[str, float]:
    """Open the base with its weights held so, and measure."""
    import torch

    from foldkit.adapters import AdapterSettings, attach
    from foldkit.demo.files import DATA
    from foldkit.formats import GgufFile
    from foldkit.models import generate, open_base
    from foldkit.models.batch import pack, pad
    from foldkit.models.freeing import give_back
    from foldkit.models.likelihood import chunked_loss, learned_stream, token_losses
    from foldkit.tokens import open_text_side
    from foldkit.training.memory import forget_peak, peak_bytes, start_torch

    found: dict[str, float] = {}
    start = time.perf_counter()
    if path.suffix == ".gguf":
        GgufFile(path)
        found["header_seconds"] = time.perf_counter() - start
    start_torch()
    before, start = peak_now_mb(), time.perf_counter()
    base, side = open_base(path, weights=weights), open_text_side(path)
    ids = side.tokenizer.encode_text("The sea is calm today, and")
    generate(base.decoder, [ids], side.end_ids, 1)
    found["first_answer_seconds"] = time.perf_counter() - start
    n_weights = base.decoder.n_parameters
    found["held_bytes_per_parameter"] = base.n_weight_bytes / n_weights
    found["process_bytes_per_parameter"] = (peak_now_mb() - before) * 2**20 / n_weights
    text = side.tokenizer.encode_text((DATA / "general.txt").read_text(encoding="utf-8"))
    rows = [text[at : at + N_TOKENS] for at in range(0, N_TOKENS * N_ROWS, N_TOKENS)]
    learned = [[True] * len(row) for row in rows]
    losses, _ = token_losses(base.decoder, pad(rows, learned))
    found["perplexity"] = math.exp(statistics.fmean(itertools.chain(*losses)))
    adapter, batch, times = attach(base.decoder, AdapterSettings(rank=8)), pack(rows, learned), list[float]()
    give_back()
    forget_peak()
    for _ in range(3):
        start = time.perf_counter()
        loss, _ = chunked_loss(base.decoder, learned_stream(base.decoder, batch), batch.targets)
        torch.autograd.backward(loss)
        times.append(time.perf_counter() - start)
        for factor in adapter.parameters:
            factor.grad = None
    return {**found, "step_seconds": min(times), "step_mb": (peak_bytes() - before * 2**20) / 1e6}


def alone(path: Path, weights: str) -> dict[str, float]:
    """Run in a fresh process."""
    with multiprocessing.get_context("spawn").Pool(1) as pool:
        found: dict[str, float] = pool.apply(measure, (path, weights))
        return found


def main() -> None:
    """Measure every way of holding the weights, and print."""
    from foldkit.models.settings import WEIGHTS

    parser = argparse.ArgumentParser(description=(__doc__ or "").splitlines()[0])
    parser.add_argument("base", type=Path)
    parser.add_argument("--repeats", type=int, default=2)
    options = parser.parse_args()
    runs: dict[str, list[dict[str, float]]] = {weights: [] for weights in WEIGHTS}
    for _ in range(options.repeats):
        for weights, found in runs.items():
            found.append(alone(options.base, weights))
    best = {weights: {key: min(run[key] for run in found) for key in found[0]} for weights, found in runs.items()}
    plain = best["float32"]
    for weights, found in best.items():
        print(
            f"{weights:<9} {found['held_bytes_per_parameter']:.3f} bytes a weight held, "
            f"{found['process_bytes_per_parameter']:.2f} in the process; perplexity {found['perplexity']:.3f} "
            f"({found['perplexity'] / plain['perplexity'] - 1:+.2%}); "
            f"first answer {found['first_answer_seconds']:.2f} s; "
            f"step {found['step_seconds']:.2f} s ({found['step_seconds'] / plain['step_seconds']:.2f}), "
            f"{found['step_mb']:,.0f} MB"
        )
    figures: dict[str, Any] = {
        "header_seconds": round(plain.get("header_seconds", 0.0), 3),
        "first_answer_seconds": round(plain["first_answer_seconds"], 2),
        "bytes_per_parameter": {name: round(run["held_bytes_per_parameter"], 3) for name, run in best.items()},
        "perplexity_ratio": {name: round(run["perplexity"] / plain["perplexity"], 4) for name, run in best.items()},
    }
    for name in ("int8", "nf4", "stored", "bfloat16"):
        figures[f"{name}_step_ratio"] = round(best[name]["step_seconds"] / plain["step_seconds"], 3)
        figures[f"{name}_step_memory_ratio"] = round(best[name]["step_mb"] / plain["step_mb"], 3)
    print(json.dumps(figures))


if __name__ == "__main__":
    main()
