"""The learning rate of each step."""

from __future__ import annotations

import math

from .settings import TrainSettings


def rate_at(step: int, n_steps: int, settings: TrainSettings) -> float:
    """Return the rate of step 0 to n_steps - 1: a straight warm-up, then half a cosine down to the final share."""
    n_warm = round(settings.warm_up * n_steps)
    if step < n_warm:
        return settings.learning_rate * (step + 1) / (n_warm + 1)
    place = (step - n_warm) / max(1, n_steps - 1 - n_warm)
    share = settings.final + (1 - settings.final) * (1 + math.cos(math.pi * place)) / 2
    return settings.learning_rate * share
