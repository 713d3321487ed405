"""The contract of a measure."""

from __future__ import annotations

import math
from collections.abc import Callable
from dataclasses import dataclass


@dataclass(frozen=True)
class Reply:
    """What one row gives a measure: target, answer, the target's summed loss in nats and its count of tokens.

    `rejected_loss_sum` and `n_rejected` are those of a worse reply, where the row has one.
    """

    target: str
    answer: str
    loss_sum: float
    n_tokens: int
    rejected_loss_sum: float = 0.0
    n_rejected: int = 0


@dataclass(frozen=True)
class Measure:
    """One way of scoring: a figure and a weight for each row; the whole is the weighted mean of the figures.

    `figure(reply, pattern)` returns the row's figure in [low, high].
    """

    name: str
    says: str
    low: float
    high: float
    higher_is_better: bool
    figure: Callable[[Reply, str], float]
    weight: Callable[[Reply], float] = lambda reply: 1.0


INFINITY = math.inf
