"""Examples side by side or one after the other, and the log-probabilities of their learned tokens."""

from __future__ import annotations

import dataclasses
from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from typing import Any, NamedTuple

import torch
from torch import Tensor
from torch.nn import functional

from .attention import Piece
from .decoder import Decoder
from .quick_training import training_layers

# Logits that stand in memory at once; the head is applied to so many rows at a time.
LOGITS_AT_ONCE = 2**23
# Fewer tokens than this that examples begin with alike are computed for each: to put them together costs as much.
WORTH_SHARING = 8


@dataclass(frozen=True)
class Batch:
    """Examples for one pass: ids int64 (rows, seq), `before` which of them (flat) comes before each learned token.

    Tokens after the last learned one, and that one itself, predict nothing and are left out. Each example is a row,
    padded on the right: padding needs no mask, for it stands after all real tokens, and a causal decoder never looks
    there. Or they stand in one row as `pieces`, what several begin with there once. `targets` are the learned tokens,
    int64 (n_learned,); the first token of an example, which nothing predicts, is never among them. `sizes` are how
    many each example has, or each reply where there are two to a prompt; `lengths` are the tokens of padded examples,
    and `rows` the numbers of the rows of pairs.
    """

    ids: Tensor
    before: Tensor
    targets: Tensor
    sizes: tuple[int, ...]
    lengths: tuple[int, ...] = ()
    pieces: tuple[Piece, ...] = ()
    rows: tuple[int, ...] = ()

    @property
    def n_learned(self) -> int:
        """How many tokens are predicted and learned."""
        return len(self.targets)


def pad(ids: Sequence[Sequence[int]], learned: Sequence[Sequence[bool]]) -> Batch:
    """Put examples side by side. Raises ValueError when ids and learned differ in length."""
    places = [_learned_places(row, flags) for row, flags in zip(ids, learned, strict=True)]
    lengths = tuple(max(own, default=1) for own in places)
    longest = max(lengths, default=1)
    table = torch.zeros(len(ids), longest, dtype=torch.long)
    for index, (row, n) in enumerate(zip(ids, lengths, strict=True)):
        table[index, :n] = _long(row[:n])
    before = [index * longest + place - 1 for index, own in enumerate(places) for place in own]
    targets = [row[place] for row, own in zip(ids, places, strict=True) for place in own]
    return Batch(table, _long(before), _long(targets), tuple(map(len, places)), lengths)


def pack(ids: Sequence[Sequence[int]], learned: Sequence[Sequence[bool]], *, share: bool = True) -> Batch:
    """Put examples into one row, what they begin with and do not learn there once where it is `share`d.

    Raises ValueError when ids and learned differ in length.
    """
    row = _Row(share=share)
    for one, flags in zip(ids, learned, strict=True):
        row.add(one, _learned_places(one, flags))
    return row.batch()


class Replies(NamedTuple):
    """Two replies to one prompt, as ids, each with its end marker."""

    prompt: tuple[int, ...]
    first: tuple[int, ...]
    second: tuple[int, ...]


def pack_replies(examples: Sequence[Replies], rows: Sequence[int], *, share: bool = True) -> Batch:
    """Put prompts with two replies each into one row, as `pack` does; all tokens of the replies are learned.

    Either reply may be empty. Raises ValueError for an empty prompt, from which nothing could be predicted.
    """
    row = _Row(share=share)
    for prompt, first, second in examples:
        if not prompt:
            raise ValueError("a prompt needs at least one token")
        n = len(prompt)
        row.add(prompt + first, range(n, n + len(first)), n)
        row.go_on(n, second)
    return dataclasses.replace(row.batch(), rows=tuple(rows))


def _learned_places(ids: Sequence[int], learned: Sequence[bool]) -> list[int]:
    """Return which tokens are learned, the first never. Raises ValueError when ids and learned differ in length."""
    return [place for place, (_, flag) in enumerate(zip(ids, learned, strict=True)) if flag and place]


def _long(values: Sequence[int]) -> Tensor:
    return torch.tensor(values, dtype=torch.long)


class _Row:
    """A row of pieces that grows by texts."""

    def __init__(self, *, share: bool) -> None:
        self.share = share
        self.ids: list[int] = []
        self.before: list[int] = []
        self.targets: list[int] = []
        self.sizes: list[int] = []
        self.pieces: list[Piece] = []
        self.starts: list[int] = []
        # Each text and the pieces that make it up, as (number, its first tokens).
        self.texts: list[tuple[Sequence[int], list[tuple[int, int]]]] = []

    def add(self, ids: Sequence[int], learned: Sequence[int], n_kept: int = 1) -> None:
        """Add a text of which the tokens at these places are learned; all before the last of them is used.

        At least `n_kept` tokens are. What it begins with before any learned one, and an earlier text too, is shared.
        """
        n_used = max(max(learned, default=0), n_kept)
        most = min(min(learned, default=n_used), n_used - 1) if self.share else 0
        n_shared, pieces = 0, list[tuple[int, int]]()
        for text, parts in self.texts:
            if (n := n_alike(text, ids[:most])) > max(n_shared, WORTH_SHARING - 1):
                n_shared, pieces = n, parts
        self._append(ids[n_shared:n_used], _first(pieces, n_shared), [p - n_shared for p in learned])
        self.texts.append((ids[:n_used], [*self.pieces[-1].before, (len(self.pieces) - 1, n_used - n_shared)]))
        self.targets += [ids[place] for place in learned]

    def go_on(self, n_first: int, ids: Sequence[int]) -> None:
        """Add a text that goes on after so many tokens of the last one, all of it learned; it may be empty."""
        before = _first(self.texts[-1][1], n_first)
        if len(ids) > 1:
            self._append(ids[:-1], before, range(len(ids)))
        elif ids:  # predicted by the last token before it
            self.before += [self._last(before)]
            self.sizes += [1]
        else:
            self.sizes += [0]
        self.targets += ids

    def _append(self, ids: Sequence[int], before: tuple[tuple[int, int], ...], learned: Sequence[int]) -> None:
        """Add a piece of these ids; tokens at these places, counted from its first, are learned."""
        start = len(self.ids)
        self.before += [start + place - 1 if place else self._last(before) for place in learned]
        self.ids += ids
        self.pieces.append(Piece(len(ids), before))
        self.starts.append(start)
        self.sizes.append(len(learned))

    def _last(self, before: Sequence[tuple[int, int]]) -> int:
        number, n = before[-1]
        return self.starts[number] + n - 1

    def batch(self) -> Batch:
        """Return the row as a batch."""
        ids, before, targets = map(_long, (self.ids, self.before, self.targets))
        return Batch(ids[None], before, targets, tuple(self.sizes), pieces=tuple(self.pieces))


def n_alike(one: Sequence[int], other: Sequence[int]) -> int:
    """Return how many first tokens two texts have in common."""
    pairs = enumerate(zip(one, other, strict=False))
    return next((index for index, (a, b) in pairs if a != b), min(len(one), len(other)))


def _first(pieces: Sequence[tuple[int, int]], n_tokens: int) -> tuple[tuple[int, int], ...]:
    """Return what of these pieces makes up so many first tokens."""
    found = []
    for number, n in pieces:
        if n_tokens > 0:
            found.append((number, min(n, n_tokens)))
        n_tokens -= n
    return tuple(found)


def reply_log_probs(decoder: Decoder, batch: Batch) -> tuple[Tensor, Tensor, Tensor]:
    """Return the log-probability (nats) of both replies to each prompt, (examples, 2), with gradient.

    Then how many tokens each has, and how many of them were the likeliest, both int64 (examples, 2).
    """
    log_probs, hits = token_log_probs(decoder, learned_stream(decoder, batch), batch.targets)
    counts = _long(batch.sizes)
    owner = torch.arange(len(counts)).repeat_interleave(counts)
    totals = torch.zeros(len(counts), dtype=log_probs.dtype).index_add(0, owner, log_probs)
    n_hit = torch.zeros(len(counts), dtype=torch.long).index_add(0, owner, hits.long())
    return totals.view(-1, 2), counts.view(-1, 2), n_hit.view(-1, 2)


def learned_stream(decoder: Decoder, batch: Batch) -> Tensor:
    """Return the stream (n_learned, d_model) before each learned token."""
    layers = training_layers(decoder) if batch.pieces else ()
    stream: Tensor = decoder(batch.ids, pieces=batch.pieces, wanted=batch.before, layers=layers)
    return stream


def learned_logits(decoder: Decoder, batch: Batch) -> tuple[Tensor, Tensor]:
    """Return logits (n_learned, vocab_size) that predict the learned tokens, and those tokens (n_learned,)."""
    return decoder.logits(learned_stream(decoder, batch)), batch.targets


@torch.inference_mode()
def token_losses(decoder: Decoder, batch: Batch) -> tuple[list[list[float]], list[list[bool]]]:
    """Return for each padded example the losses (nats) of its learned tokens, and whether each was the likeliest."""
    logits, targets = learned_logits(decoder, batch)
    losses = functional.cross_entropy(logits, targets, reduction="none")
    right = logits.argmax(-1) == targets
    sizes = list(batch.sizes)
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
            # No way back needs the values of logits, so their gradient may stand in their place.
            loss, hits = _cross_entropy_(logits.data, targets[piece], smoothing)
            if wanted:
                to_stream[piece], *more = torch.autograd.grad(logits, (rows, *trained), logits.data)
                to_head = [before + part for before, part in zip(to_head, more, strict=True)]
            total, n_hit = total + loss, n_hit + hits
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
            to_logits = logits.data
            _softmax_(to_logits, to_logits.amax(-1, keepdim=True))
            to_logits.neg_()
            to_logits.scatter_add_(-1, targets[piece, None], to_logits.new_ones(len(rows), 1))
            to_logits.mul_(gradients[0][piece, None])
            to_stream[piece], *more = torch.autograd.grad(logits, (rows, *trained), to_logits)
            to_head = [before + part for before, part in zip(to_head, more, strict=True)]
        return (None, None, to_stream, *to_head)


def _pieces(decoder: Decoder, n_rows: int) -> Iterator[slice]:
    """Yield slices of rows whose logits may stand in memory at once."""
    size = max(1, LOGITS_AT_ONCE // decoder.spec.vocab_size)
    return (slice(start, start + size) for start in range(0, n_rows, size))


def _cross_entropy_(logits: Tensor, targets: Tensor, smoothing: float) -> tuple[Tensor, Tensor]:
    """Return the summed cross-entropy of logits (n, vocab_size) and the hits; its gradient takes the logits' place."""
    (most, likeliest), of_target = logits.max(-1, keepdim=True), logits.gather(-1, targets[:, None])
    wanted = of_target if not smoothing else (1 - smoothing) * of_target + smoothing * logits.mean(-1, keepdim=True)
    totals = _softmax_(logits, most)
    if smoothing:
        logits.sub_(smoothing / logits.shape[-1])
    logits.scatter_add_(-1, targets[:, None], torch.full_like(of_target, smoothing - 1))
    return (most + totals.log() - wanted).sum(), (likeliest == targets[:, None]).sum()


def _softmax_(logits: Tensor, most: Tensor) -> Tensor:
    """Put the softmax over the last axis in the place of logits; return the sums of exp(logits - most)."""
    totals = logits.sub_(most).exp_().sum(-1, keepdim=True)
    logits.div_(totals)
    return totals
