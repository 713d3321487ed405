"""Intervals and tests: by rows, or by groups of rows where they come in groups.

A proportion of single rows has the score interval of Wilson 1927, and where every figure is 0 or every one 1 the exact
one of Clopper and Pearson 1934. All others are resampled, groups with their rows, the ratio taken in each resample
(Efron and Tibshirani 1993, chapter 13, percentile interval), the percentiles further out where groups are few
(Hesterberg 2015, section 5.3, expanded percentile interval).
"""

from __future__ import annotations

from collections.abc import Callable, Iterator, Sequence
from dataclasses import dataclass
from typing import TYPE_CHECKING

import numpy as np

from .measures.measure import mean

if TYPE_CHECKING:
    from scipy.sparse import csr_array

N_RESAMPLES = 2000
N_FLIPS = 9999
# How many figures of rows are held at once.
_AT_ONCE = 2**20
LEVEL = 0.95


@dataclass(frozen=True)
class Interval:
    """A figure with the ends of its 95% interval."""

    value: float
    low: float
    high: float


class Resamples:
    """Resamples of rows by group, drawn once from a seed and used for every measure and contender."""

    def __init__(self, groups: Sequence[str], seed: int) -> None:
        if not groups:
            raise ValueError("no row to resample")
        places = {name: index for index, name in enumerate(dict.fromkeys(groups))}
        self.group_of = np.array([places[name] for name in groups])
        self.n_groups, self.seed = len(places), seed
        rng, even = np.random.default_rng(seed), np.full(self.n_groups, 1 / self.n_groups)
        # How often a group is in each; the first one is the rows as they are.
        self._drawn = np.ones((N_RESAMPLES + 1, self.n_groups), np.min_scalar_type(self.n_groups))
        for line in range(1, N_RESAMPLES + 1):
            self._drawn[line] = rng.multinomial(self.n_groups, even)

    @property
    def single(self) -> bool:
        """Whether every row is a group of its own."""
        return self.n_groups == len(self.group_of)

    def each(self, whole: Callable[[np.ndarray], np.ndarray]) -> np.ndarray:
        """Return a figure of the rows as they are, then of each resample, float64 (resamples + 1,).

        `whole` gives it for each line of counts (lines, rows), which say how often a row is in a resample.
        """
        at_once = 1 + _AT_ONCE // len(self.group_of)
        some = (self._drawn[start : start + at_once] for start in range(0, len(self._drawn), at_once))
        return np.concatenate([whole(drawn.take(self.group_of, 1).astype(float)) for drawn in some])

    def interval(self, values: np.ndarray, n: int = 0) -> Interval:
        """Return the interval of a figure given for the rows as they are, then for each resample.

        `n` is how many groups the figure is of, 0 for all of them.
        """
        out = _share_outside(n or self.n_groups)
        low, high = np.nanquantile(values[1:], [out, 1 - out])
        return Interval(float(values[0]), float(low), float(high))

    def by_group(self, figures: np.ndarray) -> np.ndarray:
        """Return the sum of the figures of each group."""
        return np.bincount(self.group_of, figures, self.n_groups)


def _share_outside(n: int) -> float:
    """Return the share of resamples of n groups that lies outside an interval at each end.

    Resamples scatter less than samples, by the root of (n - 1) / n, and know the scatter of few only as well as
    Student's t of n - 1 says.
    """
    from scipy.special import ndtr, stdtrit

    return float(ndtr(stdtrit(n - 1, (1 - LEVEL) / 2) * (n / (n - 1)) ** 0.5)) if n > 1 else 0.0


def share_interval(figures: Sequence[float], resamples: Resamples, among: Sequence[bool] | None = None) -> Interval:
    """Return the interval of a share of rows, each figure 0 or 1; exact at the edges.

    `among` says which rows count, all without it; one must.
    """
    chosen = np.ones(len(figures), bool) if among is None else np.asarray(among)
    hits, groups = np.asarray(figures)[chosen], resamples.group_of[chosen]
    n = len(np.unique(groups))
    if n < len(hits) and 0 < hits.mean() < 1:
        return resamples.interval(resamples.each(lambda counts: mean(hits, np.ones(len(hits)), counts[:, chosen])), n)
    return share_of(round(n * float(hits.mean())), n)


def share_of(n_hits: int, n: int) -> Interval:
    """Return the interval of a share of single ones; exact at the edges."""
    from scipy.stats import binomtest

    found = binomtest(n_hits, n).proportion_ci(LEVEL, method="wilson" if 0 < n_hits < n else "exact")
    return Interval(n_hits / n, float(found.low), float(found.high))


def no_difference(resamples: Resamples) -> Interval:
    """Return the interval of a difference where no row has one: as wide as unseen rows could make it, exactly."""
    edge = 1 - ((1 - LEVEL) / 2) ** (1 / resamples.n_groups)
    return Interval(0.0, -edge, edge)


def paired_test(gains: np.ndarray, resamples: Resamples, *, share: bool) -> float:
    """Return the two-sided p-value that a contender's gains over another, a number for each row, come from chance.

    For shares of single rows the exact test of the rows that disagree (McNemar 1947 as a binomial test); for all else
    the signs of the gains of groups are turned by chance (Fisher 1935, section 21).
    """
    sums = resamples.by_group(gains)
    sums = sums[sums != 0]
    if share and resamples.single and len(sums):
        from scipy.stats import binomtest

        return float(binomtest(int((sums > 0).sum()), len(sums)).pvalue)
    return _turned_test(lambda turned: (1.0 - 2.0 * turned) @ sums, len(sums), resamples.seed)


def swapped_test(
    whole: Callable[[np.ndarray], np.ndarray], after: csr_array, before: csr_array, resamples: Resamples
) -> float:
    """Return the two-sided p-value that a whole that is no mean of rows differs by chance between two contenders.

    `whole` gives it of sums over rows (lines, sums), to which a row adds what stands in `after` and `before` (rows,
    sums). What both said of a group of rows changes hands by chance, as the signs of gains are turned in `paired_test`.
    """
    from scipy.sparse import csr_array

    rows = np.arange(len(resamples.group_of))
    moved = csr_array((np.ones(len(rows)), (resamples.group_of, rows))) @ (after - before)
    moved = moved[np.flatnonzero(abs(moved).sum(1))]
    own, other = after.sum(0), before.sum(0)

    def difference(turned: np.ndarray) -> np.ndarray:
        change = turned.astype(float) @ moved
        return np.asarray(whole(own - change) - whole(other + change))

    return _turned_test(difference, moved.shape[0], resamples.seed)


def _turned_test(figure: Callable[[np.ndarray], np.ndarray], n: int, seed: int) -> float:
    """Return twice the smaller share of turns of n things by which a figure comes to as much, or as little, as it is.

    `figure` takes lines of turns (lines, n), True where a thing is turned. All turns are gone through where they are
    no more than N_FLIPS; else so many are drawn, and the figure as it is counts as one more (Phipson and Smyth 2010).
    """
    as_it_is = float(figure(np.zeros((1, n), bool))[0])
    n_more = n_less = n_turns = 0
    for turned in _turns(n, seed):
        found = figure(turned)
        near = 1e-12 * max(1.0, float(np.abs(found).max()))
        n_more += int((found >= as_it_is - near).sum())
        n_less += int((found <= as_it_is + near).sum())
        n_turns += len(turned)
    drawn = n_turns == N_FLIPS
    return min(1.0, 2 * (min(n_more, n_less) + drawn) / (n_turns + drawn))


def _turns(n: int, seed: int) -> Iterator[np.ndarray]:
    """Yield turns (lines, n): all that there are, or N_FLIPS drawn ones, so many at once as memory bears."""
    if 2**n <= N_FLIPS:
        yield (np.arange(2**n)[:, None] >> np.arange(n)) % 2 == 1
        return
    rng = np.random.default_rng(seed)
    at_once = 1 + _AT_ONCE // n
    for start in range(0, N_FLIPS, at_once):
        yield rng.integers(0, 2, size=(min(at_once, N_FLIPS - start), n), dtype=bool)


def holm(p_values: Sequence[float]) -> list[float]:
    """Return p-values corrected for how many there are (Holm 1979)."""
    order = sorted(range(len(p_values)), key=p_values.__getitem__)
    corrected, most = [0.0] * len(p_values), 0.0
    for rank, index in enumerate(order):
        most = max(most, min(1.0, (len(p_values) - rank) * p_values[index]))
        corrected[index] = most
    return corrected


def rows_needed(spread: float, worth: float) -> int:
    """Return how many rows would tell a difference of `worth` with 80% power at 95% (Cohen 1988, section 2.4).

    `spread` is how far the gains of rows scatter, their standard deviation; 0 rows where they do not.
    """
    from scipy.stats import norm

    return int(np.ceil(((norm.ppf((1 + LEVEL) / 2) + norm.ppf(0.8)) * spread / worth) ** 2))
