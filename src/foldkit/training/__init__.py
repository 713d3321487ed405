"""Objectives, batches, schedule and the loop."""

from typing import TYPE_CHECKING

from foldkit.formats.lazy import lazy_door

if TYPE_CHECKING:
    from .batches import epoch_order as epoch_order
    from .batches import micro_batches as micro_batches
    from .events import (
        Checked as Checked,
    )
    from .events import (
        Finished as Finished,
    )
    from .events import (
        Started as Started,
    )
    from .events import (
        Stepped as Stepped,
    )
    from .events import (
        TrainEvent as TrainEvent,
    )
    from .loop import train_adapter as train_adapter
    from .objective import summed_loss as summed_loss
    from .schedule import rate_at as rate_at
    from .settings import TrainSettings as TrainSettings

__getattr__, __all__ = lazy_door(
    __name__,
    {
        "batches": ("epoch_order", "micro_batches"),
        "events": ("Checked", "Finished", "Started", "Stepped", "TrainEvent"),
        "loop": ("train_adapter",),
        "objective": ("summed_loss",),
        "schedule": ("rate_at",),
        "settings": ("TrainSettings",),
    },
)
