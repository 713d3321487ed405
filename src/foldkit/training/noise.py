"""Noise on embeddings while an adapter is trained (Jain et al. 2023, section 3, algorithm 1)."""

from __future__ import annotations

import contextlib
from collections.abc import Iterator

import torch
from torch import Tensor, nn

from foldkit.models.batch import Batch
from foldkit.models.decoder import Decoder


@contextlib.contextmanager
def noisy(decoder: Decoder, batch: Batch, alpha: float) -> Iterator[None]:
    """Add even noise within alpha / sqrt(tokens of the example * d_model) to each embedding; none for alpha 0."""
    if not alpha:
        yield
        return
    bounds = alpha / (_own_lengths(batch) * decoder.spec.d_model).sqrt()

    def add(_: nn.Module, __: object, embedded: Tensor) -> Tensor:
        drawn = torch.rand_like(embedded) * 2 - 1
        return embedded + drawn * bounds[..., None].to(embedded)

    hook = decoder.embedding.register_forward_hook(add)
    try:
        yield
    finally:
        hook.remove()


def _own_lengths(batch: Batch) -> Tensor:
    """Return for each token how many its example has; those of padding do not count."""
    if batch.pieces:
        lengths = torch.tensor([piece.n_before + piece.n_tokens for piece in batch.pieces])
        return lengths.repeat_interleave(torch.tensor([piece.n_tokens for piece in batch.pieces]))[None]
    return torch.tensor(batch.lengths)[:, None].expand(batch.ids.shape)
