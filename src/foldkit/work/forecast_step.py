"""What the training of a sheet will take, and the micro-batch that is chosen by it."""

from __future__ import annotations

from typing import TYPE_CHECKING

from .parts import Parts
from .sheet import Sheet
from .steps import build

if TYPE_CHECKING:
    from foldkit.training import Forecast


def forecast(sheet: Sheet) -> Forecast:
    """Open the base, measure a small pass and three steps where they fit, and tell what the training will take.

    Nothing is written but the built dataset.
    """
    from foldkit.training import forecast as forecast_of
    from foldkit.training.memory import forget_peak, start_torch

    rows = build(sheet).parts
    start_torch()
    free, level = free_bytes(), forget_peak()
    parts = Parts(sheet)
    return forecast_of(parts.base.decoder, parts.adapter, rows["train"], rows["validation"], sheet.train, free, level)


def chosen_micro_batch(parts: Parts, free: int) -> int:
    """Return the micro-batch of a training of these parts within so many free bytes."""
    from foldkit.training import pass_cost, with_micro_batch

    settings, rows, decoder = parts.sheet.train, parts.dataset.parts["train"], parts.base.decoder
    cost = pass_cost(decoder, max(rows, key=lambda example: len(example.ids)).ids)
    return with_micro_batch(settings, decoder, parts.adapter, rows, cost, free).n_micro


def free_bytes() -> int:
    """Return how much memory is free for this process, without what others would have to give up."""
    import psutil

    return int(psutil.virtual_memory().available)
