"""How many examples go through the model at once: as many as are fast and fit into what memory is free."""

from __future__ import annotations

import dataclasses
import itertools
import statistics
from collections.abc import Callable, Iterator, Sequence

from foldkit.adapters.attaching import Adapter
from foldkit.datasets import Example, learned_counts, token_counts
from foldkit.models.decoder import Decoder

from .batches import batches, count_steps, longest
from .costs import Memory, PassCost, memory_of, pass_cost
from .pair_objective import objective_for
from .settings import TrainSettings

MemoryWith = Callable[[TrainSettings], Memory]

# The part of free memory that a training may take before it is said not to fit.
SAFE = 0.9
# What leaves more of the activations than this takes no less.
LESS = 0.95
# How many steps stand for all of them; the largest ones are looked for in a whole epoch.
_LOOKED_AT = 200
# Passes of about so many tokens are about as fast as longer ones.
_ENOUGH_TOKENS = 2000
# The share of all tokens that passes of part of a batch may compute again, to take less memory.
_MORE = 0.1


def with_micro_batch(settings: TrainSettings, fast: int, memory_with: MemoryWith, free_bytes: int) -> TrainSettings:
    """Choose the micro-batch where the settings leave it open: a fast one, halved until it fits."""
    if settings.micro_batch != "auto":
        return settings
    return until_it_fits(dataclasses.replace(settings, micro_batch=fast), memory_with, free_bytes)


def until_it_fits(settings: TrainSettings, memory_with: MemoryWith, free_bytes: int) -> TrainSettings:
    """Halve the micro-batch until the peak fits into the free bytes, or for as long as that takes less.

    Beside an example that is long by itself smaller passes of the others take no less, and more time.
    """
    tried = [(settings, memory_with(settings))]
    while tried[-1][1].peak > SAFE * free_bytes and tried[-1][0].n_micro > 1:
        half = dataclasses.replace(settings, micro_batch=tried[-1][0].n_micro // 2)
        tried.append((half, memory_with(half)))
    if tried[-1][1].peak <= SAFE * free_bytes:
        return tried[-1][0]
    least = min(memory.activations for _, memory in tried)
    return next(one for one, memory in tried if LESS * memory.activations <= least)


def too_many_bytes(settings: TrainSettings, memory_with: MemoryWith, free_bytes: int) -> float:
    """Return the bytes of the peak where they are more than may be taken of the free ones, else 0."""
    peak = memory_with(settings).peak
    return peak if peak > SAFE * free_bytes else 0.0


def fast_micro_batch(steps: Sequence[Sequence[Example]], settings: TrainSettings) -> int:
    """Return the smallest micro-batch whose passes are about as fast as larger ones, at most the largest batch.

    Passes of that batch say so: what examples begin with alike is computed once in each of them.
    """
    step = max(steps, key=len)
    least, size = sum(_tokens_of_passes(step, settings, len(step))), 1
    while size < len(step):
        found = _tokens_of_passes(step, settings, size)
        if statistics.mean(found) >= _ENOUGH_TOKENS and sum(found) <= (1 + _MORE) * least:
            return size
        size *= 2
    return len(step)


def _tokens_of_passes(step: Sequence[Example], settings: TrainSettings, size: int) -> list[int]:
    """Return the tokens of each pass of a step, by so many examples."""
    objective = objective_for(dataclasses.replace(settings, micro_batch=size), step)
    return [one.ids.numel() for one in objective.passes(step)]


def first_steps(train: Sequence[Example], settings: TrainSettings) -> list[list[Example]]:
    """Return the first steps of a training, each the examples of its batch."""
    return [[train[index] for index in indices] for indices in _steps_to(_LOOKED_AT, token_counts(train), settings)]


def large_steps(train: Sequence[Example], settings: TrainSettings) -> list[list[Example]]:
    """Return the step of the first epoch that has the longest example, and the one that has the most tokens.

    Whatever the micro-batch, a pass of one of them is about the largest there is.
    """
    lengths = token_counts(train)
    n_epoch = count_steps(lengths, settings)[1] + 1  # the last of its rows may stand in the next one's first step
    steps = list(_steps_to(n_epoch, lengths, settings))
    found = [max(steps, key=lambda step: measure(lengths[index] for index in step)) for measure in (max, sum)]
    return [[train[index] for index in indices] for indices in found]


def tokens_of_steps(train: Sequence[Example], settings: TrainSettings) -> tuple[int, int]:
    """Return how many tokens all steps of a training have, and how many of them are learned.

    Where they are many, those of the first epoch stand for the others.
    """
    lengths, learned = token_counts(train), learned_counts(train)
    n_steps, n_epoch = count_steps(lengths, settings)
    most = n_steps if n_steps <= _LOOKED_AT else min(n_steps, n_epoch)
    indices = [index for step in _steps_to(most, lengths, settings) for index in step]
    n_tokens, n_learned = (sum(counts[index] for index in indices) for counts in (lengths, learned))
    return round(n_tokens * n_steps / most), round(n_learned * n_steps / most)


def _steps_to(most: int, lengths: Sequence[int], settings: TrainSettings) -> Iterator[list[int]]:
    """Yield the indices of so many steps, or of all where there are fewer."""
    return itertools.islice(batches(lengths, settings), min(most, count_steps(lengths, settings)[0]))


def memory_of_steps(
    decoder: Decoder, adapter: Adapter, steps: Sequence[Sequence[Example]], cost: PassCost
) -> MemoryWith:
    """Return what tells the memory of these steps with any settings."""

    def memory_with(settings: TrainSettings) -> Memory:
        objective = objective_for(settings, [example for step in steps for example in step])
        return memory_of(decoder, adapter, settings, cost, [objective.passes(step) for step in steps])

    return memory_with


def memory_of_training(
    decoder: Decoder,
    adapter: Adapter,
    train: Sequence[Example],
    steps: Sequence[Sequence[Example]],
    settings: TrainSettings,
) -> MemoryWith:
    """Return what tells the memory of a training, whose first steps are these, with any settings that leave them so."""
    looked_at = [*steps, *large_steps(train, settings)]
    return memory_of_steps(decoder, adapter, looked_at, pass_cost(decoder, longest(train).ids))
