"""Log-probabilities of given ids, the head applied only where they are asked for."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import torch
from torch import Tensor
from torch.nn import functional

from .decoder import Decoder


@dataclass(frozen=True)
class PaddedBatch:
    """Examples side by side: ids int64 (batch, seq), padded on the right, and learned bool of the same shape.

    Padding needs no mask: it stands after all real tokens, and a causal decoder never looks there.
    """

    ids: Tensor
    learned: Tensor


def pad(ids: Sequence[Sequence[int]], learned: Sequence[Sequence[bool]]) -> PaddedBatch:
    """Put examples side by side. Raises ValueError when ids and learned differ in length."""
    longest = max(len(row) for row in ids)
    table = torch.zeros(len(ids), longest, dtype=torch.long)
    flags = torch.zeros(len(ids), longest, dtype=torch.bool)
    for index, (row, row_flags) in enumerate(zip(ids, learned, strict=True)):
        table[index, : len(row)] = torch.tensor(row)
        flags[index, : len(row)] = torch.tensor([flag for _, flag in zip(row, row_flags, strict=True)])
    return PaddedBatch(table, flags)


def learned_logits(decoder: Decoder, batch: PaddedBatch) -> tuple[Tensor, Tensor]:
    """Return logits (n_learned, vocab_size) that predict the learned tokens, and those tokens (n_learned,).

    Row-major order. The first token of an example is predicted from nothing, so it is never among them.
    """
    stream = decoder(batch.ids[:, :-1])
    wanted = batch.learned[:, 1:]
    return decoder.logits(stream[wanted]), batch.ids[:, 1:][wanted]


@torch.inference_mode()
def token_losses(decoder: Decoder, batch: PaddedBatch) -> tuple[list[list[float]], list[list[bool]]]:
    """Return for each example the losses (nats) of its learned tokens, and whether each was the likeliest."""
    logits, targets = learned_logits(decoder, batch)
    losses = functional.cross_entropy(logits, targets, reduction="none")
    right = logits.argmax(-1) == targets
    sizes = batch.learned[:, 1:].sum(1).tolist()
    return [part.tolist() for part in torch.split(losses, sizes)], [part.tolist() for part in torch.split(right, sizes)]
