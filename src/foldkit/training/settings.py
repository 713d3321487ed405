"""How an adapter is trained."""

from __future__ import annotations

from dataclasses import dataclass, field, fields

from foldkit.formats import UsageError, one_of
from foldkit.formats.settings import within

# What each objective is given as its strength where the sheet says nothing: as in its paper.
STRENGTHS = {"odds": 0.1, "direct": 0.1, "identity": 0.1, "margin": 2.0, "unpaired": 0.1}
OBJECTIVES = ("reply", *STRENGTHS)
# What of `pairs` each reads besides the strength, which all but `reply` do.
_COMPARING = ("direct", "identity", "unpaired")
_READ = {"direct": ("doubt",), "margin": ("margin",), "unpaired": ("good", "bad")}
SCHEDULES = ("cosine", "linear", "constant")
# Each figure that a validation can be the best by, and whether more of it is better.
BEST_BY = {
    "loss": False,
    "accuracy": True,
    "train_loss": False,
    "train_accuracy": True,
    "smoothed_loss": False,
    "gradient_norm": False,
    "update_ratio": False,
    "ranked": True,
    "margin": True,
}
OF_PAIRS = ("ranked", "margin")
BAD_STEPS = ("stop", "skip")

_RANGES = (
    ("window", 8, 2**20),
    ("epochs", 0.001, 10000),
    ("steps", 0, 2**40),
    ("minutes", 0, 1e6),
    ("batch", 1, 2**16),
    ("batch_tokens", 0, 2**31),
    ("learning_rate", 1e-9, 10),
    ("rate_ratio", 1e-3, 1e3),
    ("full_ratio", 1e-3, 1e3),
    ("cycles", 1, 10000),
    ("warm_up", 0, 2**40),
    ("final", 0, 1),
    ("weight_decay", 0, 10),
    ("beta1", 0, 0.999999),
    ("beta2", 0, 0.999999),
    ("clip", 1e-6, 1e9),
    ("smoothing", 0, 0.9),
    ("noise", 0, 1000),
    ("averaging", 0, 0.999999),
    ("validations", 1, 10000),
    ("validate_every", 0, 2**40),
    ("patience", 0, 10000),
    ("runaway", 0, 1e9),
    ("checkpoint_every", 0, 2**40),
    ("keep", 1, 10000),
    ("seed", 0, 2**31 - 1),
)


@dataclass(frozen=True)
class PairSettings:
    """How a better reply is held against a worse one; `strength` 0 is the objective's own.

    `doubt` is the share of pairs that `direct` takes to be turned round; `margin` how far apart `margin` wants them;
    `good` and `bad` are the weights of both kinds of reply in `unpaired`.
    """

    strength: float = 0.0
    doubt: float = 0.0
    margin: float = 1.0
    good: float = 1.0
    bad: float = 1.0

    def __post_init__(self) -> None:
        for name, most in (("strength", 1e3), ("doubt", 0.49), ("margin", 1e3), ("good", 1e3), ("bad", 1e3)):
            within(getattr(self, name), 0, most, "[train.pairs]", name)

    def strength_of(self, objective: str) -> float:
        """Return the strength, or the one that is usual for this objective."""
        return self.strength or STRENGTHS[objective]


@dataclass(frozen=True)
class TrainSettings:
    """Counts are in examples, optimiser steps or epochs; `window` is in tokens; 0 switches off what may be off.

    `objective` is `reply`, which learns the replies, or one that holds a chosen reply against a rejected one, with
    `pairs` as its settings: `odds`, `direct`, `identity`, `margin`, `unpaired`; for the last a row may have only one of
    the two. A setting that the objective does not read is refused.

    Length: `epochs`, or `steps` where given; ended early after `minutes`.

    Batches: `batch` examples an optimiser step, or as many as come to `batch_tokens`; `micro_batch` of them, or with
    "auto" as many as are fast and fit, go through the model at once, one after the other in one row with `packing`,
    else side by side, padded. Neither changes anything but memory and speed, nor does `recompute`, which keeps only
    what goes into each layer. Without `whole_epochs` a batch may begin in one epoch and end in the next.

    Rate: `schedule` after a `warm_up` (a share of all steps below 1, else steps), down to the share `final`, in so many
    `cycles`; B's rate is `rate_ratio` times A's (Hayou et al. 2024), that of an embedding or head trained whole
    `full_ratio` times. `clip` bounds the norm of the gradient.

    Loss: `smoothing` of the labels; `noise` on embeddings (Jain et al. 2023); both in training alone. `averaging` is
    how much less each earlier step counts in the running average of the factors, which is validated and saved.

    Validation: `validations` in all, evenly spread, or one `validate_every` steps (a share of an epoch below 1). The
    best is that `best_by` its `loss` or its token `accuracy`, or by a figure of the step before it; training ends after
    `patience` validations without a better one.

    A step whose loss is no number, or `runaway` times the smoothed one, stops the training or is skipped, as
    `bad_steps` says. Checkpoints are written each `checkpoint_every` steps, or at each validation, and ten minutes
    after the last one at the latest; `keep` of them stay.
    """

    objective: str = "reply"
    window: int = 512
    epochs: float = 3.0
    steps: int = 0
    minutes: float = 0.0
    batch: int = 16
    batch_tokens: int = 0
    micro_batch: int | str = "auto"
    packing: bool = True
    whole_epochs: bool = True
    recompute: bool = False
    learning_rate: float = 1e-3
    rate_ratio: float = 1.0
    full_ratio: float = 0.1
    schedule: str = "cosine"
    cycles: int = 1
    warm_up: float = 0.05
    final: float = 0.05
    weight_decay: float = 0.0
    beta1: float = 0.9
    beta2: float = 0.999
    clip: float = 1.0
    smoothing: float = 0.0
    noise: float = 0.0
    averaging: float = 0.0
    validations: int = 8
    validate_every: float = 0.0
    best_by: str = "loss"
    patience: int = 0
    bad_steps: str = "stop"
    runaway: float = 0.0
    checkpoint_every: int = 0
    keep: int = 2
    pairs: PairSettings = field(default_factory=PairSettings)
    seed: int = 1

    def __post_init__(self) -> None:
        one_of(self.objective, OBJECTIVES, "[train]", "objective")
        one_of(self.schedule, SCHEDULES, "[train]", "schedule")
        one_of(self.best_by, tuple(BEST_BY), "[train]", "best_by")
        one_of(self.bad_steps, BAD_STEPS, "[train]", "bad_steps")
        if self.best_by in OF_PAIRS and not self.paired:
            todo = "choose a figure of replies, or an objective of pairs"
            raise UsageError("[train]", "best_by", "loss, accuracy or a figure of the step", self.best_by, todo)
        for name, allowed in (("packing", True), ("smoothing", 0.0)):
            if self.paired and getattr(self, name) != allowed:
                what, arrived = f"{str(allowed).lower()} with an objective of pairs", getattr(self, name)
                raise UsageError("[train]", name, what, arrived, "leave it out")
        self._check_pairs()
        if self.cycles > 1 and self.schedule == "constant":
            raise UsageError("[train]", "cycles", "1 with schedule constant", self.cycles, "leave out one of them")
        if isinstance(self.micro_batch, str):
            if self.micro_batch != "auto":
                todo = "give one of them, or leave it out"
                raise UsageError("[train]", "micro_batch", "a number of examples, or 'auto'", self.micro_batch, todo)
        else:
            within(self.micro_batch, 1, 2**16, "[train]", "micro_batch")
        for name, low, high in _RANGES:
            within(getattr(self, name), low, high, "[train]", name)

    def _check_pairs(self) -> None:
        """Raise UsageError for a setting of pairs that the objective does not read."""
        read = ("strength", *_READ.get(self.objective, ())) if self.paired else ()
        for field_of in fields(PairSettings):
            name, value = field_of.name, getattr(self.pairs, field_of.name)
            if value != field_of.default and name not in read:
                allowed = f"{' or '.join(read) or 'nothing'} with objective {self.objective!r}"
                raise UsageError("[train.pairs]", name, allowed, value, "set the objective it is for, or leave it out")

    @property
    def paired(self) -> bool:
        """Whether the objective needs a rejected reply beside the chosen one."""
        return self.objective != "reply"

    @property
    def compares(self) -> bool:
        """Whether the objective compares with a reference."""
        return self.objective in _COMPARING

    @property
    def either(self) -> bool:
        """Whether a row may have a chosen reply alone, or a rejected one alone."""
        return self.objective == "unpaired"

    @property
    def n_micro(self) -> int:
        """The micro-batch as a number; raises ValueError while it is still to be chosen."""
        if isinstance(self.micro_batch, str):
            raise ValueError("micro_batch is 'auto' still: give a number, or choose one by with_micro_batch")
        return self.micro_batch
