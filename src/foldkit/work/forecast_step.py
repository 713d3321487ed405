"""What the training of a sheet will take, and the micro-batch that is chosen by it."""

from __future__ import annotations

import dataclasses
from typing import TYPE_CHECKING

from foldkit.models.threads import giving_way

from .parts import Parts
from .reference import reference_at
from .sheet import Sheet
from .steps import build

if TYPE_CHECKING:
    from foldkit.training import Forecast
    from foldkit.training.team import Team


@giving_way()
def forecast(sheet: Sheet) -> Forecast:
    """Open the base, measure a small pass and three steps where they fit, and tell what the training will take.

    Nothing is written but the built dataset.
    """
    from foldkit.models import chosen_device
    from foldkit.training import forecast as forecast_of
    from foldkit.training.free_memory import free_bytes
    from foldkit.training.memory import forget_peak, start_torch

    rows, device = build(sheet).parts, chosen_device(sheet.base.device)
    start_torch()
    free, level = free_bytes(device), forget_peak(device)
    parts = Parts(sheet)
    return forecast_of(
        parts.base.decoder,
        parts.adapter,
        rows["train"],
        rows["validation"],
        sheet.train,
        free,
        level,
        needs_reference=sheet.train.compares and not reference_at(parts).exists(),
    )


def faster_compute(sheet: Sheet) -> str:
    """Say that products in bfloat16 are faster here than those in float32 that a sheet asks for, "" where they are not.

    Raises UsageError for a device that is not there.
    """
    from foldkit.models import chosen_device
    from foldkit.models.compute import is_worth, narrow_said, narrow_times

    device = chosen_device(sheet.base.device)
    if sheet.base.compute != "float32" or not is_worth(times := narrow_times(device)):
        return ""
    return f"{narrow_said(times, device)}: base.compute=bfloat16 rounds more, and may be faster"


def choose_micro_batch(parts: Parts, free: int, team: Team) -> list[str]:
    """Put the micro-batch of a training within so many free bytes into the sheet, where that leaves it open.

    Return a note where memory allows less than what is fast, or not even that. All processes take what the first one
    finds.
    """
    from foldkit.training import fast_micro_batch, first_steps, memory_of_training, too_many_bytes, with_micro_batch

    settings, rows, decoder = parts.sheet.train, parts.dataset.parts["train"], parts.base.decoder
    steps = first_steps(rows, settings)
    memory_with = memory_of_training(decoder, parts.adapter, rows, steps, settings)
    fast = fast_micro_batch(steps, settings)
    chosen = with_micro_batch(settings, fast, memory_with, free)
    (size,) = team.of_first(chosen.n_micro)
    parts.sheet = dataclasses.replace(parts.sheet, train=dataclasses.replace(settings, micro_batch=int(size)))
    if needed := too_many_bytes(parts.sheet.train, memory_with, free):
        said = f"this takes about {needed / 1e6:,.0f} MB of memory, and {free / 1e6:,.0f} are free"
        return [f"{said}: foldkit forecast says what takes less"]
    fewer = f"micro_batch is {size:.0f}: {fast} would be faster, and take more than the {free / 1e6:,.0f} MB free"
    return [fewer] if settings.micro_batch == "auto" and size < fast else []
