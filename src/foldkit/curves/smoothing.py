"""Smoothing of noisy figures."""

from __future__ import annotations

from collections.abc import Sequence


def smooth(values: Sequence[float], weight: float | None = None) -> list[float]:
    """Return the mean of each value's neighbours on both sides, each weighing `weight` times the one before it.

    So a steep fall is not drawn later than it was, as a mean of what came before would be. Without a weight the mean
    reaches over a fortieth of the values to either side. Raises ValueError unless 0 <= weight < 1.
    """
    if weight is None:
        weight = 1 - 1 / max(2, len(values) / 40)
    if not 0 <= weight < 1:
        raise ValueError(f"weight must be at least 0 and less than 1, not {weight}")
    before, after = _sums(values, weight), _sums(values[::-1], weight)[::-1]
    return [
        (total + later - value) / (share + later_share - 1)
        for value, (total, share), (later, later_share) in zip(values, before, after, strict=True)
    ]


def _sums(values: Sequence[float], weight: float) -> list[tuple[float, float]]:
    """Return of each value the weighted sum of it and those before it, and the sum of the weights."""
    total, share, found = 0.0, 0.0, []
    for value in values:
        total, share = weight * total + value, weight * share + 1
        found.append((total, share))
    return found
