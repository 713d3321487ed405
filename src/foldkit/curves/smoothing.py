"""Smoothing of noisy figures."""

from __future__ import annotations

from collections.abc import Sequence


def smooth(values: Sequence[float], weight: float | None = None) -> list[float]:
    """Return the exponential moving average, corrected for its start at zero (Kingma and Ba 2015, section 3).

    The first value is itself. Without a weight the average reaches back over a fortieth of the values, so that it
    does not lag behind a steep fall. Raises ValueError unless 0 <= weight < 1.
    """
    if weight is None:
        weight = 1 - 1 / max(2, len(values) / 40)
    if not 0 <= weight < 1:
        raise ValueError(f"weight must be at least 0 and less than 1, not {weight}")
    total, share, found = 0.0, 0.0, []
    for value in values:
        total, share = weight * total + (1 - weight) * value, weight * share + (1 - weight)
        found.append(total / share)
    return found
