"""One optimiser step: the gradient of a batch in passes, clipped, and the update."""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass

import torch
from torch import Tensor

from foldkit.adapters.attaching import Adapter
from foldkit.models.decoder import Decoder
from foldkit.models.likelihood import Batch

from .noise import noisy
from .objective import summed_loss
from .optimiser import make_optimiser, set_rate
from .settings import TrainSettings
from .team import ALONE, Team


@dataclass(frozen=True)
class Gradient:
    """Loss in nats per learned token of a batch, share of them that were the likeliest, norm before clipping."""

    loss: float
    accuracy: float
    norm: float


class Stepper:
    """Adds up gradients on an adapter and makes steps."""

    def __init__(self, decoder: Decoder, adapter: Adapter, settings: TrainSettings, team: Team = ALONE) -> None:
        self.decoder, self.settings, self.team = decoder, settings, team
        self.factors, self.optimiser = adapter.parameters, make_optimiser(adapter, settings)

    def gradient(self, pieces: Sequence[Batch]) -> Gradient:
        """Add up the gradient of the batch's mean loss over all passes, each made by one process, and clip it."""
        self.decoder.train()
        n_learned = sum(piece.n_learned for piece in pieces)
        total, n_hit = 0.0, 0.0
        for piece, counts in self.team.share(pieces):
            with noisy(self.decoder, piece, self.settings.noise):
                loss = summed_loss(self.decoder, piece, self.settings.smoothing)
            torch.autograd.backward(loss.total * counts / n_learned)
            total, n_hit = total + counts * loss.total.item(), n_hit + counts * loss.n_hit
        self.decoder.eval()
        self._add_up()
        total, n_hit = self.team.totals(total, n_hit)
        norm = float(torch.nn.utils.clip_grad_norm_(self.factors, self.settings.clip))
        return Gradient(total / n_learned, n_hit / n_learned, norm)

    def _add_up(self) -> None:
        if self.team.size == 1:
            return
        self.team.add_up([factor.grad for factor in self.factors if factor.grad is not None])

    def update(self, rate: float) -> float:
        """Make the step at this learning rate; return its length over that of all factors."""
        set_rate(self.optimiser, rate)
        before = [factor.detach().clone() for factor in self.factors]
        self.optimiser.step()
        self.drop()
        after = [factor.detach() for factor in self.factors]
        moved = length([b - a for a, b in zip(before, after, strict=True)])
        return moved / max(length(after), 1e-30)

    def drop(self) -> None:
        """Forget the gradient."""
        self.optimiser.zero_grad(set_to_none=True)


def length(tensors: Sequence[Tensor]) -> float:
    """Return the length of all these numbers as one vector."""
    return math.sqrt(sum(float(tensor.double().square().sum()) for tensor in tensors))
