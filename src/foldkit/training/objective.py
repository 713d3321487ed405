"""Next-token loss on learned tokens."""

from __future__ import annotations

from collections.abc import Sequence
from typing import NamedTuple

import torch
from torch import Tensor

from foldkit.models.decoder import Decoder
from foldkit.models.likelihood import Batch, chunked_loss, learned_stream


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
def mean_loss(decoder: Decoder, pieces: Sequence[Batch]) -> tuple[float, float]:
    """Return loss per learned token (nats) and token accuracy over all pieces, without dropout, smoothing or noise."""
    decoder.eval()
    found = [summed_loss(decoder, piece) for piece in pieces]
    n_tokens = sum(loss.n_tokens for loss in found)
    return sum(loss.total.item() for loss in found) / n_tokens, sum(loss.n_hit for loss in found) / n_tokens
