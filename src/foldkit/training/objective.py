"""Next-token loss on learned tokens."""

from __future__ import annotations

from collections.abc import Sequence
from typing import NamedTuple

import torch
from torch import Tensor

from foldkit.models.decoder import Decoder
from foldkit.models.likelihood import Batch, chunked_loss, learned_stream

from .team import ALONE, Team


class Loss(NamedTuple):
    """A summed loss (nats, a scalar), the learned tokens it is of, and how many of them were the likeliest."""

    total: Tensor
    n_tokens: int
    n_hit: int


def summed_loss(decoder: Decoder, batch: Batch, smoothing: float = 0.0) -> Loss:
    """Return the summed cross-entropy of a batch's learned tokens, with gradient.

    The sum, not the mean: divided by the learned tokens of the whole batch, it gives the same gradient however the
    batch is divided.
    """
    stream, targets = learned_stream(decoder, batch)
    total, n_hit = chunked_loss(decoder, stream, targets, smoothing)
    return Loss(total, targets.numel(), n_hit)


@torch.no_grad()
def mean_loss(decoder: Decoder, pieces: Sequence[Batch], team: Team = ALONE) -> tuple[float, float]:
    """Return loss per learned token (nats) and token accuracy over all pieces, without dropout, smoothing or noise."""
    decoder.eval()
    made = [(summed_loss(decoder, piece), counts) for piece, counts in team.share(pieces)]
    found = [loss for loss, counts in made if counts]
    total, n_hit, n_tokens = team.totals(
        sum(loss.total.item() for loss in found),
        sum(loss.n_hit for loss in found),
        sum(loss.n_tokens for loss in found),
    )
    return total / n_tokens, n_hit / n_tokens
