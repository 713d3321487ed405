"""How an adapter is trained."""

from __future__ import annotations

from dataclasses import dataclass

from foldkit.formats import one_of
from foldkit.formats.settings import within

OBJECTIVES = ("reply",)


@dataclass(frozen=True)
class TrainSettings:
    """Counts are in examples, optimiser steps or epochs; `window` is in tokens.

    `batch` is examples an optimiser step, `micro_batch` how many go through the model at once; it changes nothing but
    memory and speed. `warm_up` is a share of all steps, `final` the share of the rate that the cosine ends at.
    """

    objective: str = "reply"
    window: int = 512
    epochs: float = 3.0
    batch: int = 16
    micro_batch: int = 8
    learning_rate: float = 1e-3
    warm_up: float = 0.05
    final: float = 0.05
    weight_decay: float = 0.0
    clip: float = 1.0
    validations: int = 8
    seed: int = 1

    def __post_init__(self) -> None:
        one_of(self.objective, OBJECTIVES, "[train]", "objective")
        for name, low, high in (
            ("window", 8, 2**20),
            ("epochs", 0.001, 10000),
            ("batch", 1, 2**16),
            ("micro_batch", 1, 2**16),
            ("learning_rate", 1e-9, 10),
            ("warm_up", 0, 1),
            ("final", 0, 1),
            ("weight_decay", 0, 10),
            ("clip", 1e-6, 1e9),
            ("validations", 1, 10000),
        ):
            within(getattr(self, name), low, high, "[train]", name)
