"""Greedy answers alone and sixteen at a time, as a share of what reading the weights once a step allows.

The bandwidth is that of a product of the largest matrices of the base with one vector, in the same run and interleaved.
Times are the best of `--repeats`. The last line is one JSON object.

    python benchmarks/generate.py real/chat-135m.gguf --weights float32
"""

from __future__ import annotations

import argparse
import json
import time
from collections.abc import Callable
from pathlib import Path

import torch

from foldkit.models import generate, open_base
from foldkit.models.settings import WEIGHTS
from foldkit.tokens import open_text_side

PROMPT = "The keeper wrote down what the wind had done that night, and then he put the kettle on and"


def bandwidth() -> float:
    """Return bytes a second that a product with one vector reads, over 400 MB of weights."""
    weights = [torch.randn(2048, 2048) for _ in range(24)]
    x = torch.randn(2048)
    best = float("inf")
    for _ in range(4):
        start = time.perf_counter()
        for weight in weights:
            torch.mv(weight, x)
        best = min(best, time.perf_counter() - start)
    return sum(weight.numel() * 4 for weight in weights) / best


def seconds(work: Callable[[], object]) -> float:
    """Return how long a call takes."""
    start = time.perf_counter()
    work()
    return time.perf_counter() - start


def main() -> None:
    """Measure and print."""
    parser = argparse.ArgumentParser(description=(__doc__ or "").splitlines()[0])
    parser.add_argument("base", type=Path)
    parser.add_argument("--weights", choices=WEIGHTS, default="float32")
    parser.add_argument("--tokens", type=int, default=40)
    parser.add_argument("--repeats", type=int, default=3)
    options = parser.parse_args()
    base, side = open_base(options.base, weights=options.weights), open_text_side(options.base)
    ids = side.tokenizer.encode_text(PROMPT)
    few = 4

    def step_seconds(n_prompts: int) -> float:
        # The difference of a long and a short answer leaves out the prompt.
        prompts = [ids] * n_prompts
        long = seconds(lambda: generate(base.decoder, prompts, (), options.tokens + few))
        return (long - seconds(lambda: generate(base.decoder, prompts, (), few))) / options.tokens

    rates, alone, together = [], [], []
    for repeat in range(options.repeats):
        rates.append(bandwidth())
        alone.append(step_seconds(1))
        together.append(step_seconds(16))
        print(
            f"{repeat + 1}: {rates[-1] / 1e9:.1f} GB/s; alone {1 / alone[-1]:.1f} tokens/s; "
            f"sixteen at once {16 / together[-1]:.1f} tokens/s"
        )
    limit = max(rates) / base.n_weight_bytes
    figures = {
        "weights": options.weights,
        "tokens_per_second_alone": round(1 / min(alone), 1),
        "tokens_per_second_batch16": round(16 / min(together), 1),
        "share_of_bandwidth": round(1 / min(alone) / limit, 3),
        "batch16_gain": round(16 * min(alone) / min(together), 2),
    }
    print(json.dumps(figures))


if __name__ == "__main__":
    main()
