"""The learning rate of each step, and the steps after which something is due."""

from __future__ import annotations

import math

from .settings import TrainSettings


def rate_at(step: int, n_steps: int, settings: TrainSettings) -> float:
    """Return the rate of step 0 to n_steps - 1: a straight warm-up, then the schedule down to the final share.

    Several cycles each begin at the full rate again (Loshchilov and Hutter 2017, section 3, with equal lengths).
    """
    n_warm = round(settings.warm_up * n_steps) if settings.warm_up < 1 else int(settings.warm_up)
    if step < n_warm:
        return settings.learning_rate * (step + 1) / (n_warm + 1)
    place = (step - n_warm) / max(1, n_steps - 1 - n_warm) * settings.cycles
    place = place % 1 if place < settings.cycles else 1.0
    falls = {"cosine": (1 + math.cos(math.pi * place)) / 2, "linear": 1 - place, "constant": 1.0}
    share = settings.final + (1 - settings.final) * falls[settings.schedule]
    return settings.learning_rate * (1.0 if settings.schedule == "constant" else share)


def steps_end(settings: TrainSettings, check_seconds: float) -> float:
    """Return the seconds after which no step is begun: `minutes`, less those of the last validation up to a half."""
    most = 60 * settings.minutes
    return max(most - check_seconds, most / 2) if most else math.inf


def check_steps(n_steps: int, n_epoch: int, settings: TrainSettings) -> frozenset[int]:
    """Return the steps after which validation is due, the last step among them; `n_epoch` is the steps of an epoch."""
    if settings.validate_every:
        every = settings.validate_every if settings.validate_every >= 1 else settings.validate_every * n_epoch
        every = max(1, round(every))
        return frozenset((*range(every, n_steps, every), n_steps))
    spread = range(1, settings.validations + 1)
    return frozenset(max(1, round(n_steps * index / settings.validations)) for index in spread)
