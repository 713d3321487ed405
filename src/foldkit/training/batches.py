"""The order of examples, the batch of each step, and how a batch is divided into passes through the model."""

from __future__ import annotations

import itertools
import math
import random
from collections.abc import Iterator, Sequence

import numpy as np

from foldkit.datasets import Example, Examples
from foldkit.formats import InputError
from foldkit.models.batch import Batch, pack, pad

from .settings import OF_PAIRS, TrainSettings


def check_parts(train: Sequence[Example], validation: Sequence[Example], settings: TrainSettings) -> None:
    """Raise InputError when there is nothing to train or validate on, or no pair where the best is found by pairs."""
    for name, examples in (("train", train), ("validation", validation)):
        if not examples:
            raise InputError("[split]", f"rows in {name}", "at least one", "none", "add rows or change the split")
    if settings.best_by in OF_PAIRS and not any(one.chosen and one.rejected for one in validation):
        allowed, todo = "rows of validation with both replies", "set best_by to loss"
        raise InputError("[train]", f"best_by {settings.best_by}", allowed, "none", todo)


def longest(examples: Sequence[Example]) -> Example:
    """Return the example with the most tokens, a rejected reply not counted; the first of several."""
    lengths = examples.lengths.tolist() if isinstance(examples, Examples) else [len(one.ids) for one in examples]
    return examples[lengths.index(max(lengths))]


def epoch_order(n_examples: int, epoch: int, seed: int) -> list[int]:
    """Return the indices of an epoch, shuffled by the seed and the epoch."""
    order = list(range(n_examples))
    random.Random(f"{seed} {epoch}").shuffle(order)
    return order


def batches(lengths: Sequence[int], settings: TrainSettings) -> Iterator[list[int]]:
    """Yield the indices of each step's batch without end; every epoch is shuffled anew.

    The last batch of an epoch may be smaller, or go on into the next one, as `whole_epochs` says.
    """
    orders = (epoch_order(len(lengths), epoch, settings.seed) for epoch in itertools.count())
    if settings.whole_epochs:
        for order in orders:
            yield from _cut(iter(order), lengths, settings)
    else:
        yield from _cut(itertools.chain.from_iterable(orders), lengths, settings)


def _cut(order: Iterator[int], lengths: Sequence[int], settings: TrainSettings) -> Iterator[list[int]]:
    """Cut an order of examples into batches of so many examples, or of at most so many tokens."""
    batch, n_tokens, most = list[int](), 0, settings.batch_tokens
    for index in order:
        if batch and (n_tokens + lengths[index] > most if most else len(batch) == settings.batch):
            yield batch
            batch, n_tokens = [], 0
        batch.append(index)
        n_tokens += lengths[index]
    if batch:
        yield batch


def count_steps(lengths: Sequence[int], settings: TrainSettings) -> tuple[int, int]:
    """Return how many steps a training has, and how many an epoch (the first one, where batches are cut by tokens).

    Where batches go on into the next epoch, the last one of an epoch counts by its share.
    """
    n_epoch = len(lengths) / settings.batch
    if settings.batch_tokens:
        *whole, last = _cut(iter(epoch_order(len(lengths), 0, settings.seed)), lengths, settings)
        n_epoch = len(whole) + min(1.0, sum(lengths[index] for index in last) / settings.batch_tokens)
    if settings.whole_epochs:
        n_epoch = math.ceil(n_epoch)
    return settings.steps or max(1, round(settings.epochs * n_epoch)), max(1, round(n_epoch))


def micro_batches(examples: Sequence[Example], settings: TrainSettings, n_processes: int = 1) -> list[Batch]:
    """Divide a batch of examples into passes of about `micro_batch` of them."""
    return [_batch_of(piece, settings) for piece in divided(examples, settings, n_processes)]


def _batch_of(examples: Sequence[Example], settings: TrainSettings) -> Batch:
    """Put examples into one row, one after the other, or side by side, padded."""
    ids, learned = [one.ids for one in examples], [one.learned for one in examples]
    return pack(ids, learned, share=not settings.noise) if settings.packing else pad(ids, learned)


def divided(examples: Sequence[Example], settings: TrainSettings, n_processes: int = 1) -> list[list[Example]]:
    """Divide a batch into passes of about `micro_batch` examples, to be packed by first fit, or padded by like length.

    Where processes share them, there are as many as processes, if there are examples enough.
    """
    n_passes = min(len(examples), max(n_processes, math.ceil(len(examples) / settings.n_micro)))
    ordered = sorted(examples, key=lambda example: example.n_tokens, reverse=True)
    if settings.packing:
        # A little more than an even share, so that one pass more is seldom needed.
        room = max(ordered[0].n_tokens, math.ceil(1.05 * sum(one.n_tokens for one in ordered) / n_passes))
        return first_fit(ordered, room)
    size = math.ceil(len(ordered) / n_passes) if n_processes > 1 else settings.n_micro
    return [ordered[start : start + size] for start in range(0, len(ordered), size)]


def first_fit(ordered: Sequence[Example], room: int) -> list[list[Example]]:
    """Put each example, the longest first, into the first sequence of `room` tokens that has space left for it."""
    rows: list[list[Example]] = []
    left = np.zeros(len(ordered), np.int64)
    for example in ordered:
        size = example.n_tokens
        place = int((left[: len(rows)] >= size).argmax()) if rows else 0
        if left[place] < size:
            place = len(rows)
            rows.append([])
            left[place] = max(room, size)
        rows[place].append(example)
        left[place] -= size
    return rows
