"""One optimiser step: the gradient of a batch in passes, clipped, and the update."""

from __future__ import annotations

import math
from collections.abc import Iterable, Iterator, Sequence
from dataclasses import dataclass

import torch
from torch import Tensor

from foldkit.adapters.attaching import Adapter
from foldkit.datasets import Example
from foldkit.models.batch import Batch
from foldkit.models.decoder import Decoder

from .noise import noisy
from .objective import Loss, Objective, Tally
from .optimiser import Optimiser
from .settings import TrainSettings
from .team import ALONE, Team

# How many numbers are squared at once.
_AT_ONCE = 1 << 18


@dataclass(frozen=True)
class Gradient:
    """Loss of a batch, share of learned tokens that were the likeliest, norm before clipping; figures of pairs."""

    loss: float
    accuracy: float
    norm: float
    figures: dict[str, float]


class Stepper:
    """Adds up gradients on an adapter and makes steps."""

    def __init__(
        self,
        decoder: Decoder,
        adapter: Adapter,
        settings: TrainSettings,
        objective: Objective,
        team: Team = ALONE,
    ) -> None:
        self.decoder, self.settings, self.objective, self.team = decoder, settings, objective, team
        self.factors, self.optimiser = adapter.parameters, Optimiser(adapter, settings)

    def passes(self, examples: Sequence[Example]) -> list[Batch]:
        """Divide a batch of examples into passes."""
        return self.objective.passes(examples, self.team.size)

    def gradient(self, passes: Sequence[Batch]) -> Gradient:
        """Add up the gradient of the batch's mean loss over all passes, each made by one process, and clip it."""
        self.objective.prepare(self.decoder, passes, self.team)
        self.decoder.recompute = self.settings.recompute
        self.decoder.train()
        n_items, tally = self.objective.n_items(passes), Tally()
        for one, counts in self.team.share(passes):
            tally.add(self._made(one, counts / n_items), counts=counts)
        self.decoder.eval()
        self.decoder.recompute = False
        self._add_up()
        figures = tally.shared(self.team)
        norm = float(torch.nn.utils.clip_grad_norm_(self.factors, self.settings.clip))
        return Gradient(figures.loss, figures.accuracy, norm, figures.figures)

    def _made(self, one: Batch, share: float) -> Loss:
        """Add so much of a pass's loss to the gradient; nothing of its graph stays."""
        with noisy(self.decoder, one, self.settings.noise):
            loss = self.objective.loss(self.decoder, one, training=True)
        torch.autograd.backward(loss.total * share)
        return loss._replace(total=loss.total.detach())

    def _add_up(self) -> None:
        if self.team.size == 1:
            return
        self.team.add_up([factor.grad for factor in self.factors if factor.grad is not None])

    def update(self, rate: float) -> float:
        """Make the step at this learning rate; return its length over that of all factors."""
        before = [factor.detach().clone() for factor in self.factors]
        self.optimiser.step(rate)
        self.drop()
        moved = _length(b - a for a, b in zip(_pieces(before), _pieces(self.factors), strict=True))
        return moved / max(_length(_pieces(self.factors)), 1e-30)

    def drop(self) -> None:
        """Forget the gradient."""
        self.optimiser.drop()


def _pieces(tensors: Sequence[Tensor]) -> Iterator[Tensor]:
    """Yield all numbers in float64, so few at once that a whole matrix takes no more memory for it."""
    for tensor in tensors:
        flat = tensor.detach().flatten()
        for start in range(0, len(flat), _AT_ONCE):
            yield flat[start : start + _AT_ONCE].double()


def _length(pieces: Iterable[Tensor]) -> float:
    """Return the length of all these numbers as one vector."""
    return math.sqrt(float(sum(piece.square().sum() for piece in pieces)))
