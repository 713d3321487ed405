"""Finding a learning rate: a short training whose rate grows until the loss runs away (Smith 2017, section 3.3)."""

from __future__ import annotations

import itertools
import math
from collections.abc import Iterator, Sequence
from dataclasses import dataclass

import torch

from foldkit.adapters.attaching import Adapter
from foldkit.datasets import Example, token_counts
from foldkit.models.decoder import Decoder
from foldkit.models.freeing import memory_kept

from .batches import batches
from .pair_objective import Reference, objective_for
from .settings import TrainSettings
from .stepping import Stepper

LOWEST, HIGHEST, N_STEPS = 1e-6, 1.0, 60
# Up to this rate hardly anything is learned: the mean of these losses is the base's, however far batches are apart.
_STILL = 1e-5
# How much of the smoothed loss each step keeps; past how many times the lowest one a loss has run away.
_SMOOTH, _AWAY = 0.7, 2.0


@dataclass(frozen=True)
class TriedRate:
    """The loss (nats per learned token) of a batch just before the step at this rate, plain and smoothed."""

    step: int
    learning_rate: float
    loss: float
    smoothed_loss: float


def try_rates(
    decoder: Decoder,
    adapter: Adapter,
    train: Sequence[Example],
    settings: TrainSettings,
    n_steps: int = N_STEPS,
    reference: Reference | None = None,
) -> Iterator[TriedRate]:
    """Train with rates from LOWEST to HIGHEST, each the same number of times the one before, until the loss runs away.

    Batches and everything but the rate are those of the settings. Afterwards the adapter is as it was before.
    """
    before = {name: value.clone() for name, value in adapter.tensors().items()}
    torch.manual_seed(settings.seed)
    objective = objective_for(settings, train, reference)
    stepper = Stepper(decoder, adapter, settings, objective)
    smoothed, lowest = 0.0, math.inf
    lengths = token_counts(train)
    try:
        with memory_kept():
            for step, indices in enumerate(itertools.islice(batches(lengths, settings), n_steps)):
                rate = LOWEST * (HIGHEST / LOWEST) ** (step / max(1, n_steps - 1))
                loss = stepper.gradient(stepper.passes([train[index] for index in indices])).loss
                smoothed += (loss - smoothed) * (1 / (step + 1) if rate <= _STILL else 1 - _SMOOTH)
                yield TriedRate(step + 1, rate, loss, smoothed)
                lowest = min(lowest, smoothed) if rate > _STILL else smoothed
                if not smoothed <= _AWAY * lowest:
                    break
                stepper.update(rate)
    finally:
        stepper.drop()
        adapter.copy_from(before)


def suggested_rate(tried: Sequence[TriedRate]) -> float | None:
    """Return a tenth of the rate at which the smoothed loss was lowest; None where it never fell by a tenth.

    There the steps are too long already, for each loss still profits from the smaller rates before it. What it fell
    from is the mean of the lowest rates, which change hardly anything.
    """
    finite = [one for one in tried if math.isfinite(one.smoothed_loss)]
    if not finite:
        return None
    n_still = sum(one.learning_rate <= _STILL for one in finite)
    begin, *others = finite[max(0, n_still - 1) :]
    best = min([begin, *others], key=lambda one: one.smoothed_loss)
    return best.learning_rate / 10 if best.smoothed_loss < 0.9 * begin.smoothed_loss else None
