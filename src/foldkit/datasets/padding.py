"""How much of what is computed is padding where examples are padded to the longest beside them."""

from __future__ import annotations

import random

import numpy as np

_MOST = 20_000


def padding_share(lengths: np.ndarray, batch: int, micro_batch: int, seed: int) -> float:
    """Return the share of padding where shuffled batches are divided into micro-batches of like length.

    `lengths` is int64 (n,), in tokens. Of a long dataset 20,000 examples are drawn by the seed.
    """
    values: list[int] = lengths.tolist()
    drawn = random.Random(seed).sample(values, min(len(values), _MOST))
    computed = 0
    for start in range(0, len(drawn), batch):
        ordered = sorted(drawn[start : start + batch])
        for at in range(0, len(ordered), micro_batch):
            piece = ordered[at : at + micro_batch]
            computed += piece[-1] * len(piece)
    return 1 - sum(drawn) / computed if computed else 0.0
