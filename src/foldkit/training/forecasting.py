"""What a training will take, said before it starts: tokens, steps, memory by part, time, and what to change."""

from __future__ import annotations

import dataclasses
import functools
import itertools
import statistics
import time
from collections.abc import Callable, Iterator, Sequence
from dataclasses import dataclass

import torch

from foldkit.adapters.attaching import Adapter
from foldkit.datasets import Example, token_counts
from foldkit.models.batch import Batch
from foldkit.models.decoder import Decoder
from foldkit.models.freeing import memory_kept

from .batches import batches, count_steps, longest, refuse_empty, usual_tokens
from .costs import Memory, PassCost, memory_of, pass_cost
from .lanes import count_lanes
from .memory import peak_bytes
from .objective import Objective, mean_loss
from .pair_objective import objective_for, reference_values
from .schedule import check_steps, steps_end
from .settings import TrainSettings
from .stepping import Stepper
from .team import ALONE, Team

MemoryWith = Callable[[TrainSettings], Memory]

# Passes of about so many tokens a lane are about as fast as longer ones.
_ENOUGH_TOKENS = 1000
# How many steps are looked at for the largest pass; how many are measured, for how many seconds at least, and after how
# many no more.
_LOOKED_AT, _MEASURED, _LONG_ENOUGH, _TOO_LONG = 200, 3, 1.0, 60.0
# The part of free memory that a training may take before it is said not to fit.
_SAFE = 0.9


@dataclass(frozen=True)
class Change:
    """A change of settings that takes less memory, what it costs, and the peak with it and all before it."""

    setting: str
    costs: str
    peak: float


@dataclass(frozen=True)
class Forecast:
    """Counts are of the whole training; bytes above `held_bytes`, what the process holds before a base is opened.

    `reference_seconds` (before the first step, 0 where no reference is to be found), `seconds`, `check_share` (which of
    them validations take), `step_seconds` (of a step of median size), `first_check_seconds` (to the end of the first
    validation) and `last_step`, which is an earlier one where `minutes` end the training, are None where the steps to
    measure would not fit.
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
    step_seconds: float | None
    reference_seconds: float | None
    seconds: float | None
    check_share: float | None
    first_check_seconds: float | None
    last_step: int | None
    changes: tuple[Change, ...]

    @property
    def fits(self) -> bool:
        """Say whether the peak is within what may be taken."""
        return self.memory.peak <= self.safe_bytes

    @property
    def safe_bytes(self) -> float:
        """What may be taken of the free bytes."""
        return _SAFE * self.free_bytes


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
    refuse_empty(train, validation)
    cost = pass_cost(decoder, longest(train).ids)
    settings = with_micro_batch(settings, decoder, adapter, train, cost, free_bytes)
    n_steps, n_epoch = count_steps(token_counts(train), settings)
    steps = _looked_at(train, settings)
    memory_with = _memory_of_steps(decoder, adapter, steps, cost)
    memory = memory_with(settings)
    share = n_steps / len(steps)
    found = Forecast(
        adapter.n_parameters,
        decoder.n_parameters - adapter.n_parameters,
        n_steps,
        round(share * sum(map(_n_tokens, steps))),
        round(share * sum(example.n_learned for step in steps for example in step)),
        settings.n_micro,
        memory,
        free_bytes,
        level,
        None,
        None,
        None,
        None,
        None,
        None,
        tuple(_changes(settings, decoder.n_parameters - adapter.n_parameters, memory_with, free_bytes)),
    )
    if not found.fits:
        return found
    per_token = _seconds_per_token(decoder, adapter, steps, settings, cost)
    if level and (taken := peak_bytes(decoder.device) - level) > 0:
        memory = dataclasses.replace(memory, overhead=max(0.0, taken - memory.known))
    objective = objective_for(settings, validation)
    pieces = objective.passes(list(validation))
    n_checked = sum(piece.ids.numel() for piece in pieces)
    check = _seconds_of(lambda: mean_loss(decoder, objective, pieces[:1])) / pieces[0].ids.numel() * n_checked
    reference = check * (1 + sum(token_counts(train)) / sum(token_counts(validation))) if needs_reference else 0.0
    step = per_token * statistics.median(map(_n_tokens, steps))
    due = check_steps(n_steps, n_epoch, settings)
    mean_step = per_token * found.n_tokens / n_steps
    before_last = per_token * found.n_tokens + (len(due) - 1) * check
    made = min(1.0, steps_end(settings, check) / before_last)
    seconds = reference + made * before_last + check
    return dataclasses.replace(
        found,
        memory=memory,
        step_seconds=step,
        reference_seconds=reference,
        seconds=seconds,
        check_share=(made * (len(due) - 1) + 1) * check / seconds,
        first_check_seconds=reference + min(min(due) * mean_step, made * before_last) + check,
        last_step=max(1, round(made * n_steps)),
    )


def with_micro_batch(
    settings: TrainSettings,
    decoder: Decoder,
    adapter: Adapter,
    train: Sequence[Example],
    cost: PassCost,
    free_bytes: int,
    team: Team = ALONE,
) -> TrainSettings:
    """Choose the micro-batch where the settings leave it open: that of fast passes, halved until it fits."""
    if settings.micro_batch != "auto":
        return settings
    fast = dataclasses.replace(settings, micro_batch=fast_micro_batch(decoder, train, settings, team))
    return _until_it_fits(fast, _memory_of_steps(decoder, adapter, _looked_at(train, settings), cost), free_bytes)


def _until_it_fits(settings: TrainSettings, memory_with: MemoryWith, free_bytes: int) -> TrainSettings:
    """Halve the micro-batch until the peak fits into the free bytes, or it is 1."""
    while settings.n_micro > 1 and memory_with(settings).peak > _SAFE * free_bytes:
        settings = dataclasses.replace(settings, micro_batch=settings.n_micro // 2)
    return settings


def too_many_bytes(
    settings: TrainSettings,
    decoder: Decoder,
    adapter: Adapter,
    train: Sequence[Example],
    cost: PassCost,
    free_bytes: int,
) -> float:
    """Return the bytes of the peak where they are more than may be taken of the free ones, else 0."""
    peak = _memory_of_steps(decoder, adapter, _looked_at(train, settings), cost)(settings).peak
    return peak if peak > _SAFE * free_bytes else 0.0


def fast_micro_batch(decoder: Decoder, train: Sequence[Example], settings: TrainSettings, team: Team = ALONE) -> int:
    """Return the smallest micro-batch whose passes are about as fast as larger ones, at most the batch."""
    tokens = statistics.median(token_counts(train))
    most = int(settings.batch_tokens / tokens) or settings.batch

    def is_fast(n: int) -> bool:
        return n * tokens >= _ENOUGH_TOKENS * count_lanes(decoder, settings, n * tokens, team)

    return next(filter(is_fast, _powers(most)), most)


def _powers(most: int) -> Iterator[int]:
    return itertools.takewhile(lambda n: n <= most, (2**power for power in itertools.count()))


def _looked_at(train: Sequence[Example], settings: TrainSettings) -> list[list[Example]]:
    """Return the first steps of a training."""
    lengths = token_counts(train)
    most = min(count_steps(lengths, settings)[0], _LOOKED_AT)
    return [[train[index] for index in indices] for indices in itertools.islice(batches(lengths, settings), most)]


def _n_tokens(step: Sequence[Example]) -> int:
    return sum(example.n_tokens for example in step)


def _memory_of_steps(
    decoder: Decoder, adapter: Adapter, steps: Sequence[Sequence[Example]], cost: PassCost
) -> MemoryWith:
    """Return what tells the memory of these steps with any settings."""

    def memory_with(settings: TrainSettings) -> Memory:
        objective = objective_for(settings, [example for step in steps for example in step])
        passes = [piece for step in steps for piece in objective.passes(step)]
        return memory_of(decoder, adapter, settings, cost, passes)

    return memory_with


def _changes(settings: TrainSettings, n_matrices: int, memory_with: MemoryWith, free_bytes: int) -> Iterator[Change]:
    """Yield what takes less memory, the least harm first; what changes nothing but time before what changes results."""
    if settings.n_micro > 1:
        half = dataclasses.replace(settings, micro_batch=settings.n_micro // 2)
        settings = _until_it_fits(half, memory_with, free_bytes)
        yield Change(f"train.micro_batch={settings.n_micro}", "time", memory_with(settings).peak)
    if not settings.recompute:
        settings = dataclasses.replace(settings, recompute=True)
        yield Change("train.recompute=true", "a third more time", memory_with(settings).peak)
    least = memory_with(settings)
    for weights, n_bytes, costs in (("int8", 1.01, "a little exactness"), ("nf4", 0.53, "some exactness")):
        held = n_bytes * n_matrices
        if held < 0.9 * least.weights:
            yield Change(f"base.weights={weights}", costs, least.peak - least.weights + held)


def _seconds_per_token(
    decoder: Decoder,
    adapter: Adapter,
    steps: Sequence[Sequence[Example]],
    settings: TrainSettings,
    cost: PassCost,
) -> float:
    """Return the median time a token of steps of about median size, made after the one with the largest pass.

    Three of them, as many short ones as take a second, or as many long ones as take a minute. The adapter is put back
    afterwards.
    """
    before = {name: value.clone() for name, value in adapter.tensors().items()}
    examples = [example for step in steps for example in step]
    n_lanes = count_lanes(decoder, settings, usual_tokens(examples, settings))
    stepper = Stepper(decoder, adapter, settings, objective_for(settings, examples), n_lanes=n_lanes)
    divided = [(stepper.passes(step), step) for step in steps]
    largest = max(divided, key=lambda step: max(map(cost.of, step[0])))
    middle = sorted(divided, key=lambda step: _n_ids(step[0]))[len(divided) // 2 :][:_MEASURED]
    if settings.compares:
        measured = [example for _, step in (largest, *middle) for example in step]
        stepper.objective = _as_at_the_start(decoder, measured, settings)
    took, found = 0.0, list[float]()
    with torch.random.fork_rng(devices=[]), memory_kept():
        _one_step(stepper, largest[0])  # this one also makes what is made once
        for passes, step in itertools.cycle(middle):
            seconds = _seconds_of(functools.partial(_one_step, stepper, passes))
            took, found = took + seconds, [*found, seconds / _n_tokens(step)]
            if took >= (_LONG_ENOUGH if len(found) >= _MEASURED else _TOO_LONG):
                break
    adapter.copy_from(before)
    return statistics.median(found)


def _as_at_the_start(decoder: Decoder, examples: Sequence[Example], settings: TrainSettings) -> Objective:
    """Return the objective against what the model gives these examples itself.

    Far from the reference gradients are so small that processors take many times as long for them.
    """
    found = reference_values(decoder, examples, settings)
    return objective_for(settings, examples, {row: values for some in found for row, values in some.items()})


def _n_ids(passes: Sequence[Batch]) -> int:
    return sum(piece.ids.numel() for piece in passes)


def _one_step(stepper: Stepper, passes: Sequence[Batch]) -> None:
    stepper.gradient(passes)
    stepper.update(0.0)


def _seconds_of(action: Callable[[], object]) -> float:
    start = time.perf_counter()
    action()
    return time.perf_counter() - start
