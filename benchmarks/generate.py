"""Greedy answers alone and sixteen at a time, as a share of what reading the weights once a step allows.

Steps of one answer, of sixteen, and products of large matrices with one vector, which tell the bandwidth, are made in
turns; shares and gains are medians of the ratios of turns. The last line is one JSON object.

    python benchmarks/generate.py real/chat-135m.gguf --weights float32
"""

from __future__ import annotations

import argparse
import json
import statistics
import time
from collections.abc import Callable
from pathlib import Path

import torch

from foldkit.models import Decoder, open_base, stream
from foldkit.models.settings import WEIGHTS
from foldkit.tokens import open_text_side

PROMPT = "The keeper wrote down what the wind had done that night, and then he put the kettle on and"


def seconds(work: Callable[[], object]) -> float:
    """Return how long a call takes."""
    start = time.perf_counter()
    work()
    return time.perf_counter() - start


def steps(decoder: Decoder, ids: list[int], n_prompts: int, n_steps: int) -> Callable[[], None]:
    """Return what makes the next step of answers to so many prompts, the prompts being read already."""
    found = stream(decoder, [ids] * n_prompts, (), n_steps + 2)

    def step() -> None:
        for _ in range(n_prompts):
            next(found)

    step()
    return step


def main() -> None:
    """Measure and print."""
    parser = argparse.ArgumentParser(description=(__doc__ or "").splitlines()[0])
    parser.add_argument("base", type=Path)
    parser.add_argument("--weights", choices=WEIGHTS, default="float32")
    parser.add_argument("--tokens", type=int, default=40)
    parser.add_argument("--repeats", type=int, default=5)
    options = parser.parse_args()
    base, side = open_base(options.base, weights=options.weights), open_text_side(options.base)
    ids = side.tokenizer.encode_text(PROMPT)
    matrices, vector = [torch.randn(2048, 2048) for _ in range(24)], torch.randn(2048)
    n_bytes = sum(matrix.numel() * 4 for matrix in matrices)

    def read() -> None:
        for matrix in matrices:
            torch.mv(matrix, vector)

    turns: list[tuple[float, float, float]] = []
    for repeat in range(options.repeats):
        alone, together = (steps(base.decoder, ids, n, options.tokens) for n in (1, 16))
        turns += [(seconds(read), seconds(alone), seconds(together)) for _ in range(options.tokens)]
        reading, one, sixteen = (statistics.median(times) for times in zip(*turns[-options.tokens :], strict=True))
        print(
            f"{repeat + 1}: {n_bytes / reading / 1e9:.1f} GB/s; alone {1 / one:.1f} tokens/s; "
            f"sixteen at once {16 / sixteen:.1f} tokens/s"
        )
    limits = [base.n_weight_bytes / n_bytes * reading for reading, _, _ in turns]
    figures = {
        "weights": options.weights,
        "tokens_per_second_alone": round(1 / statistics.median(one for _, one, _ in turns), 1),
        "tokens_per_second_batch16": round(16 / statistics.median(sixteen for _, _, sixteen in turns), 1),
        "share_of_bandwidth": round(
            statistics.median(a / one for a, (_, one, _) in zip(limits, turns, strict=True)), 3
        ),
        "batch16_gain": round(statistics.median(16 * one / sixteen for _, one, sixteen in turns), 2),
    }
    print(json.dumps(figures))


if __name__ == "__main__":
    main()
