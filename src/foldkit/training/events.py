"""What a training reports while it runs. The progress bar, the log and the keeping of the best are listeners."""

from __future__ import annotations

from dataclasses import dataclass


@dataclass(frozen=True)
class Started:
    """Before the first step."""

    n_steps: int
    n_train: int
    n_validation: int
    n_trainable: int
    n_base: int


@dataclass(frozen=True)
class Stepped:
    """After an optimiser step; loss in nats per learned token of the batch, memory as held at most so far."""

    step: int
    epoch: float
    loss: float
    token_accuracy: float
    gradient_norm: float
    learning_rate: float
    n_tokens: int
    tokens_per_second: float
    seconds: float
    peak_bytes: int


@dataclass(frozen=True)
class Checked:
    """After a validation; `best` says that no earlier one was lower."""

    step: int
    validation_loss: float
    validation_accuracy: float
    best: bool
    seconds: float


@dataclass(frozen=True)
class Finished:
    """After the last step."""

    step: int
    best_step: int
    best_validation_loss: float
    seconds: float
    peak_bytes: int


TrainEvent = Started | Stepped | Checked | Finished
