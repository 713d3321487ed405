"""The figures that a contender's rows have by a measure, what they make as a whole, and how two contenders differ."""

from __future__ import annotations

import dataclasses
import functools
from collections.abc import Sequence
from dataclasses import dataclass
from typing import NamedTuple

import numpy as np

from .intervals import Interval, Resamples, no_difference, paired_test, share_interval, swapped_test
from .measures import Form, Measure, Reply
from .measures.measure import Sums, mean


@dataclass(frozen=True)
class Figures:
    """What one measure says of each row (rows,), and with what weight."""

    measure: Measure
    replies: Sequence[Reply]
    form: Form
    of_rows: np.ndarray
    weights: np.ndarray

    @classmethod
    def of(cls, measure: Measure, replies: Sequence[Reply], form: Form) -> Figures:
        """Measure every reply."""
        figures = np.array([measure.figure(reply, form) for reply in replies])
        return cls(measure, replies, form, figures, np.array([measure.weight(reply) for reply in replies]))

    def wholes(self, counts: np.ndarray) -> np.ndarray:
        """Return the whole figure of each resample; `counts` (resamples, rows) says how often a row is in it."""
        if sums := self.sums:
            return sums.figure(counts @ sums.of_rows)
        found = mean(self.of_rows, self.weights, counts)
        return np.array([self.measure.after(value) for value in found.tolist()])

    @functools.cached_property
    def sums(self) -> Sums | None:
        """What the whole hangs on, None where it is a mean of rows."""
        return self.measure.sums(self.replies, self.form) if self.measure.sums else None

    def whole_of(self, places: Sequence[int]) -> float:
        """Return the whole figure of some rows; not a number where none of them has a weight."""
        counts = np.zeros((1, len(self.replies)))
        counts[0, list(places)] = 1
        return float(self.wholes(counts)[0])

    def interval(self, resamples: Resamples) -> Interval:
        """Return the whole figure with its interval."""
        if self.are_share:
            return share_interval(self.of_rows.tolist(), resamples)
        return resamples.interval(resamples.each(self.wholes))

    @property
    def are_share(self) -> bool:
        """Whether the whole is a share of rows: every figure 0 or 1, all rows of one weight.

        One that is no mean of rows is a share where all rows are alike: there no resample differs from another.
        """
        as_mean = self.measure.sums is None or bool((self.of_rows == self.of_rows[0]).all())
        even = self.measure.high == 1 and bool((self.weights == 1).all())
        return as_mean and even and bool(np.isin(self.of_rows, (0.0, 1.0)).all())


class Compared(NamedTuple):
    """The interval of a difference, its p-value by itself, and how far the gains of rows scatter.

    That is the standard error of the difference, from its resamples, times the root of how many rows there are: rows
    of one group scatter together.
    """

    interval: Interval
    p: float
    spread: float


def compare(after: Figures, before: Figures, resamples: Resamples) -> Compared | None:
    """Compare two contenders on the rows that have a weight with both; None where there are none."""
    weights = np.where(before.weights > 0, after.weights, 0.0)
    if not weights.any():
        return None
    after, before = (dataclasses.replace(one, weights=weights) for one in (after, before))
    change = resamples.each(lambda counts: after.wholes(counts) - before.wholes(counts))
    alike = after.measure.high == 1 and not change.any()
    interval = no_difference(resamples) if alike else resamples.interval(change)
    if after.sums and before.sums:
        p = swapped_test(after.sums.figure, after.sums.of_rows, before.sums.of_rows, resamples)
    else:
        gains = (after.of_rows - before.of_rows) * weights
        p = paired_test(gains, resamples, share=after.are_share and before.are_share)
    return Compared(interval, p, float(np.nanstd(change[1:])) * len(weights) ** 0.5)
