"""What a training will take, said before it starts: tokens, steps, memory by part, time, and what to change."""

from __future__ import annotations

import dataclasses
import functools
import itertools
import statistics
import time
from collections.abc import Callable, Collection, Sequence
from dataclasses import dataclass

import torch

from foldkit.adapters.attaching import Adapter
from foldkit.datasets import Example, token_counts
from foldkit.models.batch import Batch
from foldkit.models.decoder import Decoder
from foldkit.models.freeing import memory_kept
from foldkit.models.held import has_narrow

from .averaging import Average
from .batches import check_parts, count_steps, longest
from .changes import Change, changes_for, shorter_window
from .costs import Memory, PassCost, pass_cost
from .fitting import (
    SAFE,
    fast_micro_batch,
    first_steps,
    large_steps,
    memory_of_steps,
    tokens_of_steps,
    with_micro_batch,
)
from .memory import peak_bytes
from .objective import Objective, mean_loss
from .pair_objective import objective_for, reference_values
from .schedule import check_steps, steps_end
from .settings import TrainSettings
from .stepping import Stepper

# How many steps are measured, for how many seconds at least, and after how many no more.
_MEASURED, _LONG_ENOUGH, _TOO_LONG = 3, 1.0, 60.0


@dataclass(frozen=True)
class Duration:
    """Seconds of a training: `total`, and of them `reference`, before the first step, 0 where none is to be found.

    `step` is of a step of median size, `first_check` to the end of the first validation; `check_share` is what
    validations take of the total. `last_step` is an earlier one than the training's own where `minutes` end it.
    """

    total: float
    reference: float
    step: float
    first_check: float
    check_share: float
    last_step: int


@dataclass(frozen=True)
class Forecast:
    """Counts are of the whole training; bytes above `held_bytes`, what the process holds before a base is opened.

    `duration` is None where the steps to measure would not fit.
    """

    n_trainable: int
    n_base: int
    n_steps: int
    n_tokens: int
    n_learned: int
    micro_batch: int
    memory: Memory
    free_bytes: int
    held_bytes: int
    changes: tuple[Change, ...]
    duration: Duration | None = None

    @property
    def fits(self) -> bool:
        """Say whether the peak is within what may be taken."""
        return self.memory.peak <= self.safe_bytes

    @property
    def safe_bytes(self) -> float:
        """What may be taken of the free bytes."""
        return SAFE * self.free_bytes


def forecast(
    decoder: Decoder,
    adapter: Adapter,
    train: Sequence[Example],
    validation: Sequence[Example],
    settings: TrainSettings,
    free_bytes: int,
    level: int = 0,
    *,
    needs_reference: bool = False,
) -> Forecast:
    """Measure a small pass and, where the peak fits into the free bytes, a few steps; the adapter stays as it was.

    `level` is what the process held before the base was opened, since when its peak must have been counted; without it
    the overhead is a guess. With `needs_reference` one is to be found before the first step. Raises InputError when
    there is nothing to train or validate on.
    """
    check_parts(train, validation, settings)
    cost = pass_cost(decoder, longest(train).ids)
    steps, large = first_steps(train, settings), large_steps(train, settings)
    memory_with = memory_of_steps(decoder, adapter, [*steps, *large], cost)
    settings = with_micro_batch(settings, fast_micro_batch(steps, settings), memory_with, free_bytes)
    n_steps, n_epoch = count_steps(token_counts(train), settings)
    n_tokens, n_learned = tokens_of_steps(train, settings)
    n_base = decoder.n_parameters - adapter.n_parameters
    shorter = shorter_window(decoder, adapter, train, [*steps, *large], cost)
    found = Forecast(
        n_trainable=adapter.n_parameters,
        n_base=n_base,
        n_steps=n_steps,
        n_tokens=n_tokens,
        n_learned=n_learned,
        micro_batch=settings.n_micro,
        memory=memory_with(settings),
        free_bytes=free_bytes,
        held_bytes=level,
        changes=tuple(changes_for(settings, n_base, memory_with, free_bytes, shorter)),
    )
    if not found.fits:
        return found
    per_token = _seconds_per_token(decoder, adapter, steps, large, settings, cost)
    memory = found.memory
    if level and (taken := peak_bytes(decoder.device) - level) > 0:
        memory = dataclasses.replace(memory, overhead=max(0.0, taken - memory.known))
    check = _check_seconds(decoder, validation, settings)
    reference = check * (1 + sum(token_counts(train)) / sum(token_counts(validation))) if needs_reference else 0.0
    due = check_steps(n_steps, n_epoch, settings)
    duration = _duration(found, steps, settings, due, per_token, check, reference)
    return dataclasses.replace(found, memory=memory, duration=duration)


def _check_seconds(decoder: Decoder, validation: Sequence[Example], settings: TrainSettings) -> float:
    """Return how long a validation takes, from its first pass."""
    objective = objective_for(settings, validation)
    passes = objective.passes(list(validation))
    seconds = _seconds_of(lambda: mean_loss(decoder, objective, passes[:1]), _n_times(decoder))
    return seconds / passes[0].ids.numel() * _n_ids(passes)


def _duration(
    found: Forecast,
    steps: Sequence[Sequence[Example]],
    settings: TrainSettings,
    due: Collection[int],
    per_token: float,
    check: float,
    reference: float,
) -> Duration:
    """Return how long it all takes, from the seconds of a token, of a validation and of the reference."""
    of_steps = per_token * found.n_tokens
    before_last = of_steps + (len(due) - 1) * check
    made = min(1.0, steps_end(settings, check) / before_last)
    total = reference + made * before_last + check
    return Duration(
        total=total,
        reference=reference,
        step=per_token * statistics.median(sum(token_counts(step)) for step in steps),
        first_check=reference + min(min(due) * of_steps / found.n_steps, made * before_last) + check,
        check_share=(made * (len(due) - 1) + 1) * check / total,
        last_step=max(1, round(made * found.n_steps)),
    )


def _seconds_per_token(
    decoder: Decoder,
    adapter: Adapter,
    steps: Sequence[Sequence[Example]],
    large: Sequence[Sequence[Example]],
    settings: TrainSettings,
    cost: PassCost,
) -> float:
    """Return the median time a token of steps of about median size, made after the one with the largest pass of all.

    Three of them, as many short ones as take a second, or as many long ones as take a minute. Their rate is 0, so that
    the adapter stays as it was without a copy, which a training would not hold.
    """
    examples = [example for step in (*steps, *large) for example in step]
    stepper = Stepper(decoder, adapter, settings, objective_for(settings, examples))
    average = Average(stepper.factors, settings.averaging)
    divided = [(stepper.passes(step), step) for step in (*steps, *large)]
    largest = max(divided, key=lambda step: max(map(cost.of, step[0])))
    middle = sorted(divided[: len(steps)], key=lambda step: _n_ids(step[0]))[len(steps) // 2 :][:_MEASURED]
    if settings.compares:
        measured = [example for _, step in (largest, *middle) for example in step]
        stepper.objective = _as_at_the_start(decoder, measured, settings)
    took, found = 0.0, list[float]()
    with torch.random.fork_rng(devices=[]), memory_kept():
        _one_step(stepper, average, largest[0])  # this one also makes what is made once
        for passes, step in itertools.cycle(middle):
            seconds = _seconds_of(functools.partial(_one_step, stepper, average, passes), _n_times(decoder))
            took, found = took + seconds, [*found, seconds / sum(token_counts(step))]
            if took >= (_LONG_ENOUGH if len(found) >= _MEASURED else _TOO_LONG):
                break
    return statistics.median(found)


def _as_at_the_start(decoder: Decoder, examples: Sequence[Example], settings: TrainSettings) -> Objective:
    """Return the objective against what the model gives these examples itself.

    Far from the reference gradients are so small that processors take many times as long for them.
    """
    found = reference_values(decoder, examples, settings)
    return objective_for(settings, examples, {row: values for some in found for row, values in some.items()})


def _n_ids(batches: Sequence[Batch]) -> int:
    return sum(one.ids.numel() for one in batches)


def _one_step(stepper: Stepper, average: Average, passes: Sequence[Batch]) -> None:
    stepper.gradient(passes)
    stepper.update(0.0)
    average.take(1)


def _n_times(decoder: Decoder) -> int:
    """Return how often something is done to be measured: where kernels are made for counts of rows, not the first."""
    return 2 if has_narrow(decoder) else 1


def _seconds_of(action: Callable[[], object], n_times: int = 1) -> float:
    """Return how long an action takes, the last of so many times."""
    for _ in range(n_times):
        start = time.perf_counter()
        action()
    return time.perf_counter() - start
