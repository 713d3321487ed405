"""How likely a token can be at most behind a frozen norm and head, whatever the layers before them do."""

from __future__ import annotations

import math

import torch
from torch import Tensor

from .decoder import Decoder
from .held import Matrix

# Rows and tokens that are compared at once: 8 MB of products.
_ROWS, _TOKENS = 2048, 512


@torch.no_grad()
def highest_probabilities(decoder: Decoder, ids: Tensor) -> Tensor:
    """Return a bound that the probability of each of these tokens, int64 (n,), never passes, float64 (n,).

    The normed stream is g * u + b with |u| at most the root of d_model, so that the logit of a token with row w passes
    that of another, w', by at most root(d_model) |g * (w - w')| + b · (w - w'), times the scale of logits; a cap on
    logits only brings them nearer. So p <= 1 / (1 + sum over the others of exp(-that)). Rows that no training ever
    moved apart, which others call under-trained tokens (Land and Bartolo 2024, section 2), have bounds far below 1.
    """
    matrix: Matrix = (decoder.head or decoder.embedding).matrix
    gain, bias = _norm(decoder)
    own = _rows(matrix, ids)
    others = torch.zeros(len(ids), dtype=torch.float64, device=ids.device)
    for start in range(0, decoder.spec.vocab_size, _ROWS):
        which = torch.arange(start, min(start + _ROWS, decoder.spec.vocab_size), device=ids.device)
        rows = _rows(matrix, which)
        for at in range(0, len(ids), _TOKENS):
            part = slice(at, at + _TOKENS)
            furthest = math.sqrt(len(gain)) * torch.cdist(own[part] * gain, rows * gain)
            furthest += (own[part] @ bias)[:, None] - rows @ bias
            passed = torch.exp(-decoder.spec.logit_scale * furthest)
            others[part] += passed.masked_fill_(ids[part, None] == which, 0).sum(1)
    return 1 / (1 + others)


def _norm(decoder: Decoder) -> tuple[Tensor, Tensor]:
    """Return what the last norm multiplies and adds, float64 (d_model,)."""
    norm = decoder.norm
    gain = norm.weight.double()
    bias = torch.zeros_like(gain) if norm.bias is None else norm.bias.double()
    return gain + 1 if norm.kind == "rms offset" else gain, bias


def _rows(matrix: Matrix, which: Tensor) -> Tensor:
    found = matrix[which] if isinstance(matrix, Tensor) else matrix.rows(which, torch.float32)
    return found.double()
