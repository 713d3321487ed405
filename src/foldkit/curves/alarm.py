"""What is worth stopping a training for, while it is at work."""

from __future__ import annotations

import numpy as np

from .diagnosis import FEWEST, Diagnosis, Facts, harm

# Steps have grown by this share before they are looked at again: a look takes as long as there are steps.
_MORE = 1.1
# What is looked at many times has to be twice as clear.
_SURE = 2.0


class Alarm:
    """Hears the loss of each step, and says once that the learning rate is too high."""

    def __init__(self) -> None:
        self._steps: list[int] = []
        self._losses: list[float] = []
        self._next, self._told = float(FEWEST), False

    def hear(self, step: int, loss: float) -> None:
        """Take in what a step came to (nats per learned token, or what the objective has)."""
        self._steps.append(step)
        self._losses.append(loss)

    def rings(self) -> Diagnosis | None:
        """Return what the losses so far show, None where that is nothing, or was said before."""
        if self._told or len(self._steps) < self._next:
            return None
        self._next = _MORE * len(self._steps)
        facts = Facts(np.array(self._steps), np.array(self._losses))
        found = harm(facts, _SURE)
        self._told = found is not None
        return found
