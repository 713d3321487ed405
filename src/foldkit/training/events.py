"""What a training reports while it runs. The progress bar, the log, checkpoints and the best adapter are listeners."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, field

from .state import Snapshot


@dataclass(frozen=True)
class Preparing:
    """Before the first step, in work that takes a while: how many rows it is through with."""

    what: str
    n_done: int
    n_rows: int


@dataclass(frozen=True)
class Started:
    """Before the first step of this process: `step` of them were made before."""

    step: int
    n_steps: int
    n_train: int
    n_validation: int
    n_trainable: int
    n_base: int
    trainable_bytes: int


@dataclass(frozen=True)
class Stepped:
    """After an optimiser step; loss in nats per learned token of the batch, memory as held at most so far.

    `update_ratio` is the length of the step over the length of all factors, `to_go` the seconds to the last step.
    `figures` are those of an objective of pairs.
    """

    step: int
    epoch: float
    loss: float
    smoothed_loss: float
    token_accuracy: float
    gradient_norm: float
    update_ratio: float
    learning_rate: float
    n_tokens: int
    n_examples: int
    tokens_per_second: float
    seconds: float
    to_go: float
    peak_bytes: int
    figures: dict[str, float] = field(default_factory=dict)


@dataclass(frozen=True)
class Skipped:
    """A step that was left out, why, and the rows of its batch."""

    step: int
    reason: str
    rows: tuple[int, ...]


@dataclass(frozen=True)
class Checking:
    """In a validation that takes a while: how many of its passes are made."""

    step: int
    n_done: int
    n_passes: int


@dataclass(frozen=True)
class Checked:
    """After a validation; `best` says that no earlier one was better. The adapter is as it was validated."""

    step: int
    validation_loss: float
    validation_accuracy: float
    best: bool
    seconds: float
    figures: dict[str, float] = field(default_factory=dict)


@dataclass(frozen=True)
class Due:
    """A checkpoint is due; `snapshot` takes one, with `copy=False` one that is only good until the next event."""

    step: int
    snapshot: Callable[..., Snapshot] = field(repr=False)


@dataclass(frozen=True)
class Finished:
    """After the last step; `reason` is "done", "no better", "out of time" or "stopped"."""

    step: int
    reason: str
    best_step: int
    best_validation_loss: float | None
    n_skipped: int
    seconds: float
    peak_bytes: int


@dataclass(frozen=True)
class Noted:
    """A remark on the training as a whole, from what runs it: before the first step, or after the last."""

    says: str


TrainEvent = Noted | Preparing | Started | Stepped | Skipped | Checking | Checked | Due | Finished
