"""Next-token loss on learned tokens."""

from __future__ import annotations

import torch
from torch import Tensor
from torch.nn import functional

from foldkit.models.decoder import Decoder
from foldkit.models.likelihood import PaddedBatch, learned_logits


def summed_loss(decoder: Decoder, batch: PaddedBatch) -> tuple[Tensor, int, int]:
    """Return the summed cross-entropy (nats, a scalar with gradient), learned tokens, and how many were the likeliest.

    The sum, not the mean: divided by the learned tokens of the whole batch, it gives the same gradient however the
    batch is divided into micro-batches.
    """
    logits, targets = learned_logits(decoder, batch)
    loss = functional.cross_entropy(logits, targets, reduction="sum")
    n_right = int((logits.argmax(-1) == targets).sum())
    return loss, targets.numel(), n_right


@torch.inference_mode()
def mean_loss(decoder: Decoder, pieces: list[PaddedBatch]) -> tuple[float, float]:
    """Return loss per learned token (nats) and token accuracy over all pieces, without dropout."""
    decoder.eval()
    total, n_tokens, n_right = 0.0, 0, 0
    for piece in pieces:
        loss, count, right = summed_loss(decoder, piece)
        total, n_tokens, n_right = total + loss.item(), n_tokens + count, n_right + right
    return total / n_tokens, n_right / n_tokens
