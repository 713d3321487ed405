"""Examples side by side or one after the other, and the log-probabilities of their learned tokens."""

from __future__ import annotations

import itertools
from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from typing import Any, NamedTuple

import torch
from torch import Tensor
from torch.nn import functional

from .attention import Fork
from .decoder import Decoder

# Logits that stand in memory at once; the head is applied to so many rows at a time.
LOGITS_AT_ONCE = 2**22


@dataclass(frozen=True)
class Batch:
    """Examples for one pass: ids int64 (rows, seq), and learned bool of the same shape.

    Each example is a row, padded on the right: padding needs no mask, for it stands after all real tokens, and a causal
    decoder never looks there. Or, `packed`, they stand in one row, one after the other, and cannot see one another; the
    first token of each, which nothing predicts, is not learned. `lengths` are those of the examples. With `forks` each
    packed example has a second reply after its first one, and `rows` are the numbers of their rows.
    """

    ids: Tensor
    learned: Tensor
    lengths: tuple[int, ...]
    packed: bool = False
    forks: tuple[Fork, ...] = ()
    rows: tuple[int, ...] = ()

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


class Replies(NamedTuple):
    """Two replies to one prompt, as ids, each with its end marker."""

    prompt: tuple[int, ...]
    first: tuple[int, ...]
    second: tuple[int, ...]


def pack_replies(examples: Sequence[Replies], rows: Sequence[int]) -> Batch:
    """Put prompts with two replies each one after the other; all tokens of the replies are learned.

    Either reply may be empty. Raises ValueError for an empty prompt, from which nothing could be predicted.
    """
    if not all(one.prompt for one in examples):
        raise ValueError("a prompt needs at least one token")
    ids = [token for one in examples for token in itertools.chain(*one)]
    flags = [part is not one.prompt for one in examples for part in one for _ in part]
    return Batch(
        torch.tensor([ids]),
        torch.tensor([flags]),
        tuple(sum(map(len, one)) for one in examples),
        packed=True,
        forks=tuple(Fork(len(one.prompt), len(one.first)) for one in examples),
        rows=tuple(rows),
    )


def reply_sizes(batch: Batch) -> list[int]:
    """Return the tokens of the first and the second reply of each example in turn."""
    both = ((fork.n_first, length - sum(fork)) for fork, length in zip(batch.forks, batch.lengths, strict=True))
    return [size for sizes in both for size in sizes]


def reply_log_probs(decoder: Decoder, batch: Batch) -> tuple[Tensor, Tensor, Tensor]:
    """Return the log-probability (nats) of both replies to each prompt, (examples, 2), with gradient.

    Then how many tokens each has, and how many of them were the likeliest, both int64 (examples, 2).
    """
    fork_ends, sizes = [sum(fork) for fork in batch.forks], reply_sizes(batch)
    stream = decoder(batch.ids, lengths=batch.lengths, forks=batch.forks)
    learned = batch.learned[0].nonzero()[:, 0]
    before = learned - 1
    starts = itertools.accumulate(batch.lengths[:-1], initial=0)
    for start, fork, end, length in zip(starts, batch.forks, fork_ends, batch.lengths, strict=True):
        if length > end:  # the first token of a second reply comes after the prompt too
            before[learned == start + end] = start + fork.n_prompt - 1
    log_probs, hits = token_log_probs(decoder, stream[0, before], batch.ids[0, learned])
    counts = torch.tensor(sizes).view(-1, 2)
    owner = torch.arange(len(sizes)).repeat_interleave(torch.tensor(sizes))
    totals = torch.zeros(len(sizes), dtype=log_probs.dtype).index_add(0, owner, log_probs)
    n_hit = torch.zeros(len(sizes), dtype=torch.long).index_add(0, owner, hits.long())
    return totals.view(-1, 2), counts, n_hit.view(-1, 2)


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
        wanted = ctx.needs_input_grad[3] or bool(trained)
        total, n_hit = torch.zeros((), dtype=stream.dtype), torch.zeros((), dtype=torch.long)
        to_stream, to_head = torch.empty_like(stream), [torch.zeros_like(weight) for weight in trained]
        for piece in _pieces(decoder, len(stream)):
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


def token_log_probs(decoder: Decoder, stream: Tensor, targets: Tensor) -> tuple[Tensor, Tensor]:
    """Return the log-probability (nats) of targets (n,) after stream (n, d_model), and which were the likeliest.

    With gradient, for which the logits are made a second time: they never stand in memory whole.
    """
    trained = [w for w in decoder.head_parameters() if w.requires_grad and torch.is_grad_enabled()]
    found: tuple[Tensor, Tensor] = _TokenLogProbs.apply(decoder, targets, stream, *trained)  # type: ignore[no-untyped-call]
    return found


class _TokenLogProbs(torch.autograd.Function):
    @staticmethod
    def forward(ctx: Any, decoder: Decoder, targets: Tensor, stream: Tensor, *trained: Tensor) -> tuple[Tensor, Tensor]:
        log_probs, hits = torch.empty(len(stream), dtype=stream.dtype), torch.empty(len(stream), dtype=torch.bool)
        for piece in _pieces(decoder, len(stream)):
            logits = decoder.logits(stream[piece])
            of_target = logits.gather(-1, targets[piece, None])[:, 0]
            log_probs[piece], hits[piece] = of_target - logits.logsumexp(-1), logits.argmax(-1) == targets[piece]
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
            to_logits = torch.softmax(logits.detach(), -1).neg_()
            to_logits.scatter_add_(-1, targets[piece, None], to_logits.new_ones(len(rows), 1))
            to_logits.mul_(gradients[0][piece, None])
            to_stream[piece], *more = torch.autograd.grad(logits, (rows, *trained), to_logits)
            to_head = [before + part for before, part in zip(to_head, more, strict=True)]
        return (None, None, to_stream, *to_head)


def _pieces(decoder: Decoder, n_rows: int) -> Iterator[slice]:
    """Yield slices of rows whose logits may stand in memory at once."""
    size = max(1, LOGITS_AT_ONCE // decoder.spec.vocab_size)
    return (slice(start, start + size) for start in range(0, n_rows, size))


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
