"""The log-probabilities of the learned tokens of a batch, and what a training minimises of them."""

from __future__ import annotations

import math
from collections.abc import Iterator
from typing import Any

import torch
from torch import Tensor

from .batch import Batch, long_tensor
from .decoder import Decoder
from .quick_training import training_layers

# Logits that stand in memory at once, but of so many rows at least: products of fewer are slow.
_LOGITS_AT_ONCE, _FEWEST_ROWS = 2**24, 128
# Logits of a row whose largest is sought together.
_BLOCK = 256


def reply_log_probs(decoder: Decoder, batch: Batch) -> tuple[Tensor, Tensor, Tensor]:
    """Return the log-probability (nats) of both replies to each prompt, (examples, 2), with gradient.

    Then how many tokens each has, and how many of them were the likeliest, both int64 (examples, 2). All three stand in
    the memory of the processor.
    """
    found = token_log_probs(decoder, learned_stream(decoder, batch), batch.targets)
    log_probs, hits = (value.cpu() for value in found)
    counts = long_tensor(batch.sizes)
    owner = torch.arange(len(counts)).repeat_interleave(counts)
    totals = torch.zeros(len(counts), dtype=log_probs.dtype).index_add(0, owner, log_probs)
    n_hit = torch.zeros(len(counts), dtype=torch.long).index_add(0, owner, hits.long())
    return totals.view(-1, 2), counts.view(-1, 2), n_hit.view(-1, 2)


def learned_stream(decoder: Decoder, batch: Batch) -> Tensor:
    """Return the stream (n_learned, d_model) before each learned token, on the decoder's device."""
    layers = training_layers(decoder) if batch.pieces else ()
    ids, before = batch.ids.to(decoder.device), batch.before.to(decoder.device)
    stream: Tensor = decoder(ids, pieces=batch.pieces, wanted=before, layers=layers)
    return stream


def likeliest(logits: Tensor) -> tuple[Tensor, Tensor]:
    """Return the largest of logits (n, vocab_size), (n, 1), and which is the first that is as large, int64 (n,).

    By blocks, whose largest are found first: in a fourth of the time of a search for the place, as measured on a CPU.
    """
    n_blocks = logits.shape[-1] // _BLOCK
    blocks, rest = logits[:, : n_blocks * _BLOCK].view(len(logits), n_blocks, _BLOCK), logits[:, n_blocks * _BLOCK :]
    of_blocks = torch.cat([blocks.amax(-1), *([rest.amax(-1, keepdim=True)] if rest.shape[-1] else [])], dim=-1)
    most, block = of_blocks.max(-1, keepdim=True)
    places = (block * _BLOCK + torch.arange(_BLOCK, device=logits.device)).clamp_(max=logits.shape[-1] - 1)
    within = logits.gather(-1, places).argmax(-1, keepdim=True)
    return most, places.gather(-1, within)[:, 0]


@torch.inference_mode()
def token_losses(decoder: Decoder, batch: Batch) -> tuple[list[list[float]], list[list[bool]]]:
    """Return for each padded example the losses (nats) of its learned tokens, and whether each was the likeliest."""
    log_probs, right = token_log_probs(decoder, learned_stream(decoder, batch), batch.targets)
    sizes = list(batch.sizes)
    found, hits = torch.split(-log_probs, sizes), torch.split(right, sizes)
    return [part.tolist() for part in found], [part.tolist() for part in hits]


def chunked_loss(decoder: Decoder, stream: Tensor, targets: Tensor, smoothing: float = 0.0) -> tuple[Tensor, int]:
    """Return the summed cross-entropy (nats, a scalar) of targets (n,) after stream (n, d_model), and count the hits.

    The logits are made, used and dropped a few rows at a time, and with them the gradient to the stream and to what of
    the head is trained: logits never stand in memory whole, and none is made twice. `smoothing` mixes the target with
    that share of the even distribution (Szegedy et al. 2016, section 7).
    """
    trained = [w for w in decoder.head_parameters() if w.requires_grad and torch.is_grad_enabled()]
    loss, n_hit = _ChunkedLoss.apply(decoder, targets.to(stream.device), smoothing, stream, *trained)  # type: ignore[no-untyped-call]
    return loss, int(n_hit)


class _ChunkedLoss(torch.autograd.Function):
    @staticmethod
    def forward(
        ctx: Any, decoder: Decoder, targets: Tensor, smoothing: float, stream: Tensor, *trained: Tensor
    ) -> tuple[Tensor, Tensor]:
        wanted = ctx.needs_input_grad[3] or bool(trained)
        total, n_hit = stream.new_zeros((), dtype=_wide(stream)), stream.new_zeros((), dtype=torch.long)
        to_stream, to_head = torch.empty_like(stream), [torch.zeros_like(weight) for weight in trained]
        for piece in _pieces(decoder, len(stream)):
            with torch.set_grad_enabled(wanted):
                rows = stream[piece].detach().requires_grad_(wanted)
                logits = decoder.logits(rows)
            # No way back needs the values of logits, so their gradient may stand in their place.
            loss, hits = _cross_entropy_(logits.data, targets[piece], smoothing)
            if wanted:
                to_stream[piece], *more = _back(logits, (rows, *trained))
                to_head = [before + part for before, part in zip(to_head, more, strict=True)]
            total, n_hit = total + loss, n_hit + hits
            del logits  # or they would stand beside the next ones
        ctx.save_for_backward(to_stream, *to_head)
        ctx.mark_non_differentiable(n_hit)
        return total, n_hit

    @staticmethod
    def backward(ctx: Any, *gradients: Tensor) -> tuple[Tensor | None, ...]:
        return (None, None, None, *(gradients[0] * part for part in ctx.saved_tensors))


def token_log_probs(decoder: Decoder, stream: Tensor, targets: Tensor) -> tuple[Tensor, Tensor]:
    """Return the log-probability (nats) of targets (n,) after stream (n, d_model), and which were the likeliest.

    With gradient, for which the logits are made a second time: they never stand in memory whole.
    """
    trained = [w for w in decoder.head_parameters() if w.requires_grad and torch.is_grad_enabled()]
    found: tuple[Tensor, Tensor] = _TokenLogProbs.apply(decoder, targets.to(stream.device), stream, *trained)  # type: ignore[no-untyped-call]
    return found


class _TokenLogProbs(torch.autograd.Function):
    @staticmethod
    def forward(ctx: Any, decoder: Decoder, targets: Tensor, stream: Tensor, *trained: Tensor) -> tuple[Tensor, Tensor]:
        n = len(stream)
        log_probs, hits = stream.new_empty(n, dtype=_wide(stream)), stream.new_empty(n, dtype=torch.bool)
        for piece in _pieces(decoder, n):
            logits = decoder.logits(stream[piece])
            (most, first), of_target = likeliest(logits), logits.gather(-1, targets[piece, None])
            log_probs[piece] = (of_target - most - _exp_(logits, most).log())[:, 0]
            hits[piece] = first == targets[piece]
            del logits
        ctx.decoder = decoder
        ctx.save_for_backward(targets, stream, *trained)
        ctx.mark_non_differentiable(hits)
        return log_probs, hits

    @staticmethod
    def backward(ctx: Any, *gradients: Tensor) -> tuple[Tensor | None, ...]:
        targets, stream, *trained = ctx.saved_tensors
        to_stream, to_head = torch.empty_like(stream), [torch.zeros_like(weight) for weight in trained]
        for piece in _pieces(ctx.decoder, len(stream)):
            with torch.enable_grad():
                rows = stream[piece].detach().requires_grad_()
                logits = ctx.decoder.logits(rows)
            to_logits = logits.data  # as in `_ChunkedLoss`
            to_logits.div_(_exp_(to_logits, to_logits.amax(-1, keepdim=True)).neg_())
            to_logits.scatter_add_(-1, targets[piece, None], to_logits.new_ones(len(rows), 1))
            to_logits.mul_(gradients[0][piece, None])
            to_stream[piece], *more = _back(logits, (rows, *trained))
            to_head = [before + part for before, part in zip(to_head, more, strict=True)]
            del logits, to_logits
        return (None, None, to_stream, *to_head)


def _back(logits: Tensor, inputs: tuple[Tensor, ...]) -> tuple[Tensor, ...]:
    """Return the gradients to inputs from the one to logits, which stands in their place."""
    with torch.enable_grad():
        return torch.autograd.grad(_Replaced.apply(logits), inputs)  # type: ignore[no-untyped-call]


class _Replaced(torch.autograd.Function):
    """A number whose gradient to logits is what stands in their place.

    Given a gradient of ours, PyTorch would load a library of symbols to compare the two shapes, 0.4 s and 35 MB.
    """

    @staticmethod
    def forward(ctx: Any, logits: Tensor) -> Tensor:
        ctx.to_logits = logits.detach()
        return logits.new_zeros(())

    @staticmethod
    def backward(ctx: Any, *_: Tensor) -> Tensor:
        to_logits: Tensor = ctx.to_logits
        return to_logits


def _wide(stream: Tensor) -> torch.dtype:
    """Return the dtype of the logits after a stream."""
    return torch.promote_types(stream.dtype, torch.float32)


def rows_at_once(vocab_size: int) -> int:
    """Return of how many rows the head makes logits at a time, at most."""
    return max(_FEWEST_ROWS, _LOGITS_AT_ONCE // vocab_size)


def _pieces(decoder: Decoder, n_rows: int) -> Iterator[slice]:
    """Yield slices of rows whose logits may stand in memory at once, all of a size: a product of few rows is slow."""
    n_pieces = math.ceil(n_rows / rows_at_once(decoder.spec.vocab_size))
    size = math.ceil(n_rows / max(1, n_pieces))
    return (slice(start, start + size) for start in range(0, n_rows, size))


def _cross_entropy_(logits: Tensor, targets: Tensor, smoothing: float) -> tuple[Tensor, Tensor]:
    """Return the summed cross-entropy of logits (n, vocab_size) and the hits; its gradient takes the logits' place."""
    n_hit = (likeliest(logits)[1] == targets).sum()
    torch.log_softmax(logits, -1, out=logits)
    wanted = logits.gather(-1, targets[:, None])
    if smoothing:
        wanted = (1 - smoothing) * wanted + smoothing * logits.mean(-1, keepdim=True)
    logits.exp_()
    if smoothing:
        logits.sub_(smoothing / logits.shape[-1])
    logits.scatter_add_(-1, targets[:, None], torch.full_like(wanted, smoothing - 1))
    return -wanted.sum(), n_hit


def _exp_(logits: Tensor, most: Tensor) -> Tensor:
    """Put exp(logits - most) in the place of logits; return their sums over the last axis."""
    return logits.sub_(most).exp_().sum(-1, keepdim=True)
