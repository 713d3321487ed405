"""How much of what is computed is padding: examples padded to the longest beside them, or packed into windows."""

from __future__ import annotations

import bisect
import random

import numpy as np

_MOST = 20_000


def padding_share(lengths: np.ndarray, batch: int, micro_batch: int, seed: int) -> float:
    """Return the share of padding where shuffled batches are divided into micro-batches of like length.

    `lengths` is int64 (n,), in tokens. Of a long dataset 20,000 examples are drawn by the seed.
    """
    drawn = _drawn(lengths, seed)
    computed = 0
    for start in range(0, len(drawn), batch):
        ordered = sorted(drawn[start : start + batch])
        for at in range(0, len(ordered), micro_batch):
            piece = ordered[at : at + micro_batch]
            computed += piece[-1] * len(piece)
    return 1 - sum(drawn) / computed if computed else 0.0


def packing_share(lengths: np.ndarray, window: int, seed: int) -> float:
    """Return the share left empty where examples are packed into windows, the longest first, each where it fits best.

    Raises ValueError for an example longer than the window.
    """
    drawn = sorted(_drawn(lengths, seed), reverse=True)
    if drawn and drawn[0] > window:
        raise ValueError(f"an example of {drawn[0]} tokens, the window is {window}")
    room: list[int] = []
    n_windows = 0
    for length in drawn:
        place = bisect.bisect_left(room, length)
        left = room.pop(place) if place < len(room) else window
        n_windows += left == window and length > 0
        if left > length:
            bisect.insort(room, left - length)
    return 1 - sum(drawn) / (n_windows * window) if n_windows else 0.0


def _drawn(lengths: np.ndarray, seed: int) -> list[int]:
    chance = random.Random(seed)
    values: list[int] = lengths.tolist()
    return chance.sample(values, min(len(values), _MOST))
