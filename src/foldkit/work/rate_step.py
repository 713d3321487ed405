"""Looking for a learning rate before a training: every rate that was tried, a picture, and a suggestion."""

from __future__ import annotations

import dataclasses
from collections.abc import Callable
from dataclasses import dataclass
from pathlib import Path
from typing import TYPE_CHECKING

from foldkit.formats import write_jsonl
from foldkit.models.threads import giving_way
from foldkit.runs import new_run

from .forecast_step import choose_micro_batch
from .parts import Parts
from .reference import reference_of
from .sheet import Sheet

if TYPE_CHECKING:
    from foldkit.training import TrainEvent, TriedRate


@dataclass(frozen=True)
class FoundRate:
    """The suggested rate, None where no rate lowered the loss; what was tried; where the picture stands."""

    rate: float | None
    tried: tuple[TriedRate, ...]
    picture: Path


@giving_way()
def find_rate(
    sheet: Sheet,
    on_tried: Callable[[TriedRate, int], None] = lambda *_: None,
    on_event: Callable[[TrainEvent], None] = lambda _: None,
) -> FoundRate:
    """Try growing learning rates on the rows of train, and keep figures and picture in a new folder under `runs`.

    `on_tried` hears of each rate, and how many there are at most; `on_event`, before the first, that memory may not
    suffice, and how far a reference is. Nothing that was trained is kept.
    """
    from foldkit.curves import save_rates
    from foldkit.models import chosen_device
    from foldkit.training import Noted, suggested_rate, try_rates
    from foldkit.training.free_memory import free_bytes
    from foldkit.training.rate_search import N_STEPS
    from foldkit.training.team import ALONE

    free, parts, tried = free_bytes(chosen_device(sheet.base.device)), Parts(sheet), []
    for note in choose_micro_batch(parts, free, ALONE):
        on_event(Noted(note))
    folder = new_run(sheet.path("runs"), kind="rates").path  # before the work: it may be that none can be made
    try:
        rows, reference = parts.dataset.parts["train"], reference_of(parts, ALONE, tell=on_event)
        for one in try_rates(parts.base.decoder, parts.adapter, rows, parts.sheet.train, reference=reference):
            tried.append(one)
            on_tried(one, N_STEPS)
    except BaseException:
        folder.rmdir()
        raise
    rate = suggested_rate(tried)
    write_jsonl(folder / "rates.jsonl", [dataclasses.asdict(one) for one in tried])
    figures = [(one.learning_rate, one.loss, one.smoothed_loss) for one in tried]
    save_rates(figures, rate, f"{folder.name}: {sheet.base.model}", folder / "rates.png")
    return FoundRate(rate, tuple(tried), folder / "rates.png")
