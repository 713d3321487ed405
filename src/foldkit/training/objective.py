"""What a training minimises: the loss of replies, or of better replies against worse ones; passes, sums and figures."""

from __future__ import annotations

import itertools
import math
from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass, field
from typing import NamedTuple, Protocol

import torch
from torch import Tensor

from foldkit.datasets import Example
from foldkit.models.batch import Batch
from foldkit.models.decoder import Decoder
from foldkit.models.likelihood import chunked_loss, learned_stream

from .batches import micro_batches
from .settings import TrainSettings
from .team import ALONE, Team


class Loss(NamedTuple):
    """A summed loss (nats, a scalar) of so many items.

    Beside it the learned tokens, how many of them were the likeliest, and other sums by name, each with its count.
    """

    total: Tensor
    n_tokens: int
    n_hit: int
    n_items: int
    sums: Mapping[str, tuple[float, float]] = {}


class Objective(Protocol):
    """How examples go through the model, and what comes of it."""

    def passes(self, examples: Sequence[Example], n_processes: int = 1) -> list[Batch]:
        """Divide a batch of examples into passes."""

    def prepare(self, decoder: Decoder, passes: Sequence[Batch], team: Team) -> None:
        """Find what the loss needs of the whole batch, before any pass of it."""

    def n_items(self, passes: Sequence[Batch]) -> int:
        """Return over how many items the loss of these passes is a mean."""

    def loss(self, decoder: Decoder, batch: Batch, *, training: bool) -> Loss:
        """Return the summed loss of a pass, with gradient; without smoothing unless in training."""


@dataclass(frozen=True)
class ReplyObjective:
    """The cross-entropy of learned tokens."""

    settings: TrainSettings

    def passes(self, examples: Sequence[Example], n_processes: int = 1) -> list[Batch]:
        """Divide a batch of examples into passes."""
        return micro_batches(examples, self.settings, n_processes)

    def prepare(self, decoder: Decoder, passes: Sequence[Batch], team: Team) -> None:
        """Need nothing."""

    def n_items(self, passes: Sequence[Batch]) -> int:
        """Return the learned tokens."""
        return sum(piece.n_learned for piece in passes)

    def loss(self, decoder: Decoder, batch: Batch, *, training: bool) -> Loss:
        """Return the summed loss of learned tokens."""
        return summed_loss(decoder, batch, self.settings.smoothing if training else 0.0)


def summed_loss(decoder: Decoder, batch: Batch, smoothing: float = 0.0) -> Loss:
    """Return the summed cross-entropy of a batch's learned tokens, with gradient.

    The sum, not the mean: divided by the learned tokens of the whole batch, it gives the same gradient however the
    batch is divided.
    """
    total, n_hit = chunked_loss(decoder, learned_stream(decoder, batch), batch.targets, smoothing)
    return Loss(total, batch.n_learned, n_hit, batch.n_learned)


@dataclass
class Tally:
    """Sums over passes, those of all processes once they are `shared`."""

    total: float = 0.0
    n_tokens: float = 0.0
    n_hit: float = 0.0
    n_items: float = 0.0
    sums: dict[str, tuple[float, float]] = field(default_factory=dict)

    def add(self, loss: Loss, *, counts: bool) -> None:
        """Add a pass; one that does not count only says which sums there are."""
        self.total += counts * loss.total.item()
        self.n_tokens += counts * loss.n_tokens
        self.n_hit += counts * loss.n_hit
        self.n_items += counts * loss.n_items
        for name, (value, n) in loss.sums.items():
            before, n_before = self.sums.get(name, (0.0, 0.0))
            self.sums[name] = (before + counts * value, n_before + counts * n)

    def shared(self, team: Team) -> Tally:
        """Return the sums of all processes."""
        own = (self.total, self.n_tokens, self.n_hit, self.n_items)
        total, n_tokens, n_hit, n_items, *sums = team.totals(*own, *itertools.chain(*self.sums.values()))
        pairs = zip(sums[::2], sums[1::2], strict=True)
        return Tally(total, n_tokens, n_hit, n_items, dict(zip(self.sums, pairs, strict=True)))

    @property
    def loss(self) -> float:
        """Loss an item."""
        return self.total / self.n_items

    @property
    def accuracy(self) -> float:
        """Share of learned tokens that were the likeliest, not a number where none was learned."""
        return self.n_hit / self.n_tokens if self.n_tokens else math.nan

    @property
    def figures(self) -> dict[str, float]:
        """The other figures, each the mean over what it is of, not a number where that is nothing."""
        return {name: value / n if n else math.nan for name, (value, n) in self.sums.items()}


@torch.no_grad()
def tallies(decoder: Decoder, objective: Objective, passes: Sequence[Batch], team: Team = ALONE) -> Iterator[Tally]:
    """Yield this process's sums after each pass of a validation, without dropout, smoothing or noise."""
    decoder.eval()
    objective.prepare(decoder, passes, team)
    tally = Tally()
    for piece, counts in team.share(passes):
        tally.add(objective.loss(decoder, piece, training=False), counts=counts)
        yield tally


def mean_loss(decoder: Decoder, objective: Objective, passes: Sequence[Batch], team: Team = ALONE) -> Tally:
    """Return the sums of a validation over all passes and processes."""
    *_, tally = tallies(decoder, objective, passes, team)
    return tally.shared(team)
