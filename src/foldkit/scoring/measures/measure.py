"""The contract of a measure, and what a row gives it."""

from __future__ import annotations

import dataclasses
import math
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, field
from typing import TYPE_CHECKING, Any, NamedTuple

import numpy as np

if TYPE_CHECKING:
    from scipy.sparse import csr_array

INFINITY = math.inf


@dataclass(frozen=True)
class Form:
    """What a reply's form is said to be: `pattern` (named groups), JSON `schema`, `columns` of a line; else nothing.

    `tolerance` is how far a number may be off, as a share of it.
    """

    pattern: str = ""
    schema: Mapping[str, Any] | None = None
    columns: tuple[str, ...] = ()
    tolerance: float = 0.0


@dataclass(frozen=True)
class Reply:
    """What one row gives a measure: target, answer, the losses of the target's tokens (nats), end marker included.

    `hits` says of each of those tokens whether it was the likeliest; `rejected` are the losses of a worse reply,
    `ended` that the answer ended by itself. An answer made elsewhere has no losses. `row` has the row's cells, `grades`
    those of a judge by criterion, None where none could be read.
    """

    target: str
    answer: str
    losses: Sequence[float] = ()
    hits: Sequence[bool] = ()
    rejected: Sequence[float] = ()
    n_tokens: int = 0
    ended: bool = True
    row: Mapping[str, str] = field(default_factory=dict)
    grades: Mapping[str, float | None] = field(default_factory=dict)

    def behind(self, mark: str) -> Reply:
        """Return the same with what stands behind the last such mark of target and answer, all where it has none."""
        if not mark:
            return self
        target, answer = (text.rpartition(mark)[2] for text in (self.target, self.answer))
        return dataclasses.replace(self, target=target, answer=answer)


def mean(figures: np.ndarray, weights: np.ndarray, counts: np.ndarray) -> np.ndarray:
    """Return the weighted mean in each resample; `counts` (resamples, rows) says how often a row is in it.

    A resample without any weight has none: it is not a number.
    """
    total = counts @ weights
    sums = counts @ (figures * weights)
    return np.asarray(np.divide(sums, total, out=np.full_like(total, np.nan), where=total > 0))


class Sums(NamedTuple):
    """What a whole figure that is no mean of rows hangs on: sums over rows.

    `of_rows` (rows, sums) says what each row adds to them; `figure` gives the whole of each line of (lines, sums).
    """

    of_rows: csr_array
    figure: Callable[[np.ndarray], np.ndarray]


@dataclass(frozen=True)
class Measure:
    """One way of scoring: a figure and a weight for each row; the whole is the weighted mean of the figures.

    `figure(reply, form)` returns the row's figure in [low, high]. `after` turns the mean into what is shown. Where a
    whole is no mean of rows, `sums(replies, form)` returns what it hangs on. `needs` says what of a
    reply must be there: "losses", "hits", "rejected", "grades", or "" for the answer alone.
    """

    name: str
    says: str
    low: float
    high: float
    higher_is_better: bool
    figure: Callable[[Reply, Form], float]
    weight: Callable[[Reply], float] = lambda reply: 1.0
    after: Callable[[float], float] = lambda value: value
    sums: Callable[[Sequence[Reply], Form], Sums] | None = None
    needs: str = ""

    def fits(self, replies: Sequence[Reply]) -> bool:
        """Whether all replies have what this needs, and any of them has a weight."""
        has = not self.needs or all(getattr(reply, self.needs) for reply in replies)
        return has and any(self.weight(reply) for reply in replies)
