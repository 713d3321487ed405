"""The order of examples, and how a batch is divided into micro-batches."""

from __future__ import annotations

import random
from collections.abc import Sequence

from foldkit.datasets import Example
from foldkit.models.likelihood import PaddedBatch, pad


def epoch_order(n_examples: int, epoch: int, seed: int) -> list[int]:
    """Return the indices of an epoch, shuffled by the seed and the epoch."""
    order = list(range(n_examples))
    random.Random(f"{seed} {epoch}").shuffle(order)
    return order


def batches(n_examples: int, n_steps: int, batch: int, seed: int) -> list[list[int]]:
    """Return the indices of each step's batch; every epoch is shuffled anew and its last batch may be smaller."""
    found: list[list[int]] = []
    epoch = 0
    while len(found) < n_steps:
        order = epoch_order(n_examples, epoch, seed)
        found += [order[start : start + batch] for start in range(0, n_examples, batch)]
        epoch += 1
    return found[:n_steps]


def micro_batches(examples: Sequence[Example], size: int) -> list[PaddedBatch]:
    """Divide a batch into padded pieces of at most `size` examples, those of like length together."""
    ordered = sorted(examples, key=lambda example: len(example.ids))
    pieces = [ordered[start : start + size] for start in range(0, len(ordered), size)]
    return [pad([e.ids for e in piece], [e.learned for e in piece]) for piece in pieces]
