"""Intervals by resampling: rows, or groups of rows where they come in groups, with the ratio taken in each resample.

Efron and Tibshirani 1993, chapter 13 (percentile interval). Where every figure of a proportion is 0, or every one 1,
resampling says nothing; there the exact interval of Clopper and Pearson 1934 stands.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

N_RESAMPLES = 2000
LEVEL = 0.95


@dataclass(frozen=True)
class Interval:
    """A figure with the ends of its 95% interval."""

    value: float
    low: float
    high: float


def mean_interval(
    figures: Sequence[float], weights: Sequence[float], groups: Sequence[str], seed: int, *, is_share: bool = False
) -> Interval:
    """Return the weighted mean of the figures with its interval.

    Raises ValueError when lengths differ or there is no row.
    """
    sums, totals = _by_group(figures, weights, groups)
    value = float(sums.sum() / totals.sum())
    if is_share and value in (0.0, 1.0):
        edge = ((1 - LEVEL) / 2) ** (1 / len(sums))
        return Interval(value, 0.0, 1 - edge) if value == 0.0 else Interval(value, edge, 1.0)
    picks = _picks(len(sums), seed)
    means = sums[picks].sum(1) / totals[picks].sum(1)
    return Interval(value, *_ends(means))


def paired_interval(
    first: Sequence[float], second: Sequence[float], weights: Sequence[float], groups: Sequence[str], seed: int
) -> Interval:
    """Return the difference of weighted means, second less first, the same rows resampled for both."""
    sums_first, totals = _by_group(first, weights, groups)
    sums_second, _ = _by_group(second, weights, groups)
    gains = sums_second - sums_first
    picks = _picks(len(gains), seed)
    differences = gains[picks].sum(1) / totals[picks].sum(1)
    return Interval(float(gains.sum() / totals.sum()), *_ends(differences))


def _by_group(
    figures: Sequence[float], weights: Sequence[float], groups: Sequence[str]
) -> tuple[np.ndarray, np.ndarray]:
    if not len(figures) == len(weights) == len(groups) or not figures:
        raise ValueError(
            f"{len(figures)} figures, {len(weights)} weights and {len(groups)} groups: need as many of each"
        )
    names = {name: index for index, name in enumerate(dict.fromkeys(groups))}
    sums, totals = np.zeros(len(names)), np.zeros(len(names))
    for figure, weight, group in zip(figures, weights, groups, strict=True):
        sums[names[group]] += figure * weight
        totals[names[group]] += weight
    return sums, totals


def _picks(n: int, seed: int) -> np.ndarray:
    return np.random.default_rng(seed).integers(0, n, size=(N_RESAMPLES, n))


def _ends(values: np.ndarray) -> tuple[float, float]:
    low, high = np.quantile(values, [(1 - LEVEL) / 2, (1 + LEVEL) / 2])
    return float(low), float(high)
