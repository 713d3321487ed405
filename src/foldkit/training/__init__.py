"""Objectives, batches, schedule and the loop."""

from typing import TYPE_CHECKING

from foldkit.formats.lazy import lazy_door

if TYPE_CHECKING:
    from .batches import count_steps as count_steps
    from .batches import epoch_order as epoch_order
    from .batches import longest as longest
    from .batches import micro_batches as micro_batches
    from .changes import Change as Change
    from .checkpoints import read_checkpoint as read_checkpoint
    from .checkpoints import saved_checkpoints as saved_checkpoints
    from .checkpoints import write_checkpoint as write_checkpoint
    from .costs import Memory as Memory
    from .costs import pass_cost as pass_cost
    from .events import (
        Checked as Checked,
    )
    from .events import (
        Checking as Checking,
    )
    from .events import (
        Due as Due,
    )
    from .events import (
        Finished as Finished,
    )
    from .events import (
        Noted as Noted,
    )
    from .events import (
        Preparing as Preparing,
    )
    from .events import (
        Skipped as Skipped,
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
    from .fitting import fast_micro_batch as fast_micro_batch
    from .fitting import first_steps as first_steps
    from .fitting import memory_of_training as memory_of_training
    from .fitting import too_many_bytes as too_many_bytes
    from .fitting import with_micro_batch as with_micro_batch
    from .forecasting import Duration as Duration
    from .forecasting import Forecast as Forecast
    from .forecasting import forecast as forecast
    from .loop import train_adapter as train_adapter
    from .objective import summed_loss as summed_loss
    from .pair_objective import objective_for as objective_for
    from .pair_objective import reference_values as reference_values
    from .preferences import OBJECTIVES as OBJECTIVES
    from .preferences import LogProbs as LogProbs
    from .rate_search import TriedRate as TriedRate
    from .rate_search import suggested_rate as suggested_rate
    from .rate_search import try_rates as try_rates
    from .schedule import rate_at as rate_at
    from .settings import TrainSettings as TrainSettings
    from .state import Snapshot as Snapshot

__getattr__, __dir__, __all__ = lazy_door(
    __name__,
    {
        "batches": ("count_steps", "epoch_order", "longest", "micro_batches"),
        "checkpoints": ("read_checkpoint", "saved_checkpoints", "write_checkpoint"),
        "costs": ("Memory", "pass_cost"),
        "events": (
            "Checked",
            "Checking",
            "Due",
            "Finished",
            "Noted",
            "Preparing",
            "Skipped",
            "Started",
            "Stepped",
            "TrainEvent",
        ),
        "changes": ("Change",),
        "fitting": ("fast_micro_batch", "first_steps", "memory_of_training", "too_many_bytes", "with_micro_batch"),
        "forecasting": ("Duration", "Forecast", "forecast"),
        "loop": ("train_adapter",),
        "objective": ("summed_loss",),
        "pair_objective": ("objective_for", "reference_values"),
        "preferences": ("OBJECTIVES", "LogProbs"),
        "rate_search": ("TriedRate", "suggested_rate", "try_rates"),
        "schedule": ("rate_at",),
        "settings": ("TrainSettings",),
        "state": ("Snapshot",),
    },
)
