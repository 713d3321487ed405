"""All that a training needs to go on exactly where it was: factors, optimiser, random state and counts."""

from __future__ import annotations

import dataclasses
from collections.abc import Sequence
from dataclasses import dataclass, field
from typing import Any

from torch import Tensor

from foldkit.adapters.attaching import Adapter
from foldkit.models.random_state import restore_random_state

from .averaging import Average
from .optimiser import Optimiser

_MOMENTS = ("exp_avg", "exp_avg_sq", "step")


@dataclass
class Counts:
    """Where a training stands.

    `checked_step` is the step of the last validation and `check_seconds` how long that took; `n_worse` counts
    validations since the best one, `n_bad` bad steps since a good one; `last` has figures of the last good step.
    """

    step: int = 0
    n_tokens: int = 0
    n_examples: int = 0
    seconds: float = 0.0
    smoothed_loss: float | None = None
    best: float | None = None
    best_step: int = 0
    best_loss: float | None = None
    checked_step: int = 0
    check_seconds: float = 0.0
    n_worse: int = 0
    n_skipped: int = 0
    n_bad: int = 0
    last: dict[str, float] = field(default_factory=dict)


@dataclass(frozen=True)
class Snapshot:
    """Tensors by name, in the memory of the processor, and counts."""

    tensors: dict[str, Tensor]
    counts: dict[str, Any]


@dataclass
class TrainState:
    """The parts of a training that change with its steps."""

    adapter: Adapter
    optimiser: Optimiser
    average: Average
    counts: Counts = field(default_factory=Counts)

    def snapshot(self, random: Sequence[Tensor], *, copy: bool = True) -> Snapshot:
        """Take everything as it is now; `random` are the random states of all processes.

        Without a copy, tensors on the processor are the training's own, which its next step changes.
        """
        tensors = {f"adapter.{name}": value for name, value in self.adapter.tensors().items()}
        tensors |= {f"average.{index}": value for index, value in enumerate(self.average.values)}
        for index, factor in enumerate(self.adapter.parameters):
            for name, value in self.optimiser.state[factor].items():
                tensors[f"optimiser.{index}.{name}"] = value
        tensors |= {f"random.{rank}": value for rank, value in enumerate(random)}
        taken = {name: value.detach().to("cpu", copy=copy) for name, value in tensors.items()}
        return Snapshot(taken, dataclasses.asdict(self.counts))

    def restore(self, snapshot: Snapshot, rank: int = 0) -> None:
        """Take a snapshot over, in the process of this rank. Raises ValueError where it is of another adapter."""
        tensors = snapshot.tensors
        of_adapter = {n.removeprefix("adapter."): t for n, t in tensors.items() if n.startswith("adapter.")}
        self.adapter.copy_from(of_adapter)
        for index, value in enumerate(self.average.values):
            value.copy_(tensors[f"average.{index}"])
        for index, factor in enumerate(self.adapter.parameters):
            found = {name: tensors[key] for name in _MOMENTS if (key := f"optimiser.{index}.{name}") in tensors}
            self.optimiser.take(factor, found)
        restore_random_state(tensors[f"random.{rank}"], self.adapter.device)
        self.counts = Counts(**snapshot.counts)
