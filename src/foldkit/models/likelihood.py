"""Examples side by side or one after the other, and the log-probabilities of their learned tokens."""

from __future__ import annotations

import itertools
from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any

import torch
from torch import Tensor
from torch.nn import functional

from .decoder import Decoder

# Logits that stand in memory at once; the head is applied to so many rows at a time.
LOGITS_AT_ONCE = 2**22


@dataclass(frozen=True)
class Batch:
    """Examples for one pass: ids int64 (rows, seq), and learned bool of the same shape.

    Each example is a row, padded on the right: padding needs no mask, for it stands after all real tokens, and a causal
    decoder never looks there. Or, `packed`, they stand in one row, one after the other, and cannot see one another; the
    first token of each, which nothing predicts, is not learned. `lengths` are those of the examples.
    """

    ids: Tensor
    learned: Tensor
    lengths: tuple[int, ...]
    packed: bool = False

    @property
    def n_learned(self) -> int:
        """How many tokens are predicted and learned."""
        return int(self.learned[:, 1:].sum())


def pad(ids: Sequence[Sequence[int]], learned: Sequence[Sequence[bool]]) -> Batch:
    """Put examples side by side. Raises ValueError when ids and learned differ in length."""
    longest = max(len(row) for row in ids)
    table = torch.zeros(len(ids), longest, dtype=torch.long)
    flags = torch.zeros(len(ids), longest, dtype=torch.bool)
    for index, (row, row_flags) in enumerate(zip(ids, learned, strict=True)):
        table[index, : len(row)] = torch.tensor(row)
        flags[index, : len(row)] = torch.tensor([flag for _, flag in zip(row, row_flags, strict=True)])
    return Batch(table, flags, tuple(map(len, ids)))


def pack(ids: Sequence[Sequence[int]], learned: Sequence[Sequence[bool]]) -> Batch:
    """Put examples one after the other. Raises ValueError when ids and learned differ in length."""
    lengths = tuple(len(row) for row in ids)
    if lengths != tuple(len(row) for row in learned):
        raise ValueError("ids and learned differ in length")
    flags = torch.tensor([list(itertools.chain.from_iterable(learned))])
    flags[0, list(itertools.accumulate(lengths[:-1], initial=0))] = False
    return Batch(torch.tensor([list(itertools.chain.from_iterable(ids))]), flags, lengths, packed=True)


def learned_stream(decoder: Decoder, batch: Batch) -> tuple[Tensor, Tensor]:
    """Return the stream (n_learned, d_model) before each learned token, and those tokens (n_learned,).

    Row-major order. The first token of an example is predicted from nothing, so it is never among them.
    """
    wanted = batch.learned[:, 1:]
    lengths = batch.lengths if batch.packed else ()
    if lengths:  # the last token of the row predicts nothing
        lengths = (*lengths[:-1], lengths[-1] - 1) if lengths[-1] > 1 else lengths[:-1]
    stream = decoder(batch.ids[:, :-1], lengths=lengths)
    return stream[wanted], batch.ids[:, 1:][wanted]


def learned_logits(decoder: Decoder, batch: Batch) -> tuple[Tensor, Tensor]:
    """Return logits (n_learned, vocab_size) that predict the learned tokens, and those tokens (n_learned,)."""
    stream, targets = learned_stream(decoder, batch)
    return decoder.logits(stream), targets


@torch.inference_mode()
def token_losses(decoder: Decoder, batch: Batch) -> tuple[list[list[float]], list[list[bool]]]:
    """Return for each padded example the losses (nats) of its learned tokens, and whether each was the likeliest."""
    logits, targets = learned_logits(decoder, batch)
    losses = functional.cross_entropy(logits, targets, reduction="none")
    right = logits.argmax(-1) == targets
    sizes = batch.learned[:, 1:].sum(1).tolist()
    return [part.tolist() for part in torch.split(losses, sizes)], [part.tolist() for part in torch.split(right, sizes)]


def chunked_loss(decoder: Decoder, stream: Tensor, targets: Tensor, smoothing: float = 0.0) -> tuple[Tensor, int]:
    """Return the summed cross-entropy (nats, a scalar) of targets (n,) after stream (n, d_model), and count the hits.

    The logits are made, used and dropped a few rows at a time, and with them the gradient to the stream and to what of
    the head is trained: logits never stand in memory whole, and none is made twice. `smoothing` mixes the target with
    that share of the even distribution (Szegedy et al. 2016, section 7).
    """
    trained = [w for w in decoder.head_parameters() if w.requires_grad and torch.is_grad_enabled()]
    loss, n_hit = _ChunkedLoss.apply(decoder, targets, smoothing, stream, *trained)  # type: ignore[no-untyped-call]
    return loss, int(n_hit)


class _ChunkedLoss(torch.autograd.Function):
    @staticmethod
    def forward(
        ctx: Any, decoder: Decoder, targets: Tensor, smoothing: float, stream: Tensor, *trained: Tensor
    ) -> tuple[Tensor, Tensor]:
        n_rows = max(1, LOGITS_AT_ONCE // decoder.spec.vocab_size)
        wanted = ctx.needs_input_grad[3] or bool(trained)
        total, n_hit = torch.zeros((), dtype=stream.dtype), torch.zeros((), dtype=torch.long)
        to_stream, to_head = torch.empty_like(stream), [torch.zeros_like(weight) for weight in trained]
        for start in range(0, len(stream), n_rows):
            piece = slice(start, start + n_rows)
            with torch.set_grad_enabled(wanted):
                rows = stream[piece].detach().requires_grad_(wanted)
                logits = decoder.logits(rows)
            loss, to_logits = _cross_entropy(logits.detach(), targets[piece], smoothing)
            if wanted:
                to_stream[piece], *more = torch.autograd.grad(logits, (rows, *trained), to_logits)
                to_head = [before + part for before, part in zip(to_head, more, strict=True)]
            total, n_hit = total + loss, n_hit + (logits.argmax(-1) == targets[piece]).sum()
        ctx.save_for_backward(to_stream, *to_head)
        ctx.mark_non_differentiable(n_hit)
        return total, n_hit

    @staticmethod
    def backward(ctx: Any, *gradients: Tensor) -> tuple[Tensor | None, ...]:
        return (None, None, None, *(gradients[0] * part for part in ctx.saved_tensors))


def _cross_entropy(logits: Tensor, targets: Tensor, smoothing: float) -> tuple[Tensor, Tensor]:
    """Return the summed cross-entropy of logits (n, vocab_size), and its gradient to them, in one buffer more."""
    n_words, most = logits.shape[-1], logits.amax(-1, keepdim=True)
    gradient = (logits - most).exp_()
    totals = gradient.sum(-1, keepdim=True)
    of_target = logits.gather(-1, targets[:, None])
    wanted = of_target if not smoothing else (1 - smoothing) * of_target + smoothing * logits.mean(-1, keepdim=True)
    gradient.div_(totals)
    if smoothing:
        gradient.sub_(smoothing / n_words)
    gradient.scatter_add_(-1, targets[:, None], torch.full_like(of_target, smoothing - 1))
    return (most + totals.log() - wanted).sum(), gradient
