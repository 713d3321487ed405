"""The loop: batches to gradients to steps, yielding an event for each thing that happened."""

from __future__ import annotations

import contextlib
import itertools
import math
import time
from collections.abc import Callable, Iterator, Sequence
from dataclasses import dataclass

import torch
from torch import Tensor

from foldkit.adapters.attaching import Adapter
from foldkit.datasets import Example
from foldkit.formats import FoldKitError, InputError
from foldkit.models.decoder import Decoder
from foldkit.models.likelihood import Batch

from .batches import batches, count_steps, micro_batches
from .events import Checked, Due, Finished, Skipped, Started, Stepped, TrainEvent
from .memory import peak_bytes
from .noise import noisy
from .objective import mean_loss, summed_loss
from .optimiser import make_optimiser, set_rate
from .schedule import check_steps, rate_at
from .settings import TrainSettings
from .state import Snapshot, TrainState

# How much of the smoothed loss each step keeps.
_SMOOTH = 0.95


@dataclass(frozen=True)
class _Gradient:
    loss: float
    accuracy: float
    norm: float


def train_adapter(
    decoder: Decoder,
    adapter: Adapter,
    train: Sequence[Example],
    validation: Sequence[Example],
    settings: TrainSettings,
    *,
    resume: Snapshot | None = None,
    stop: Callable[[], bool] = lambda: False,
) -> Iterator[TrainEvent]:
    """Train the adapter in place, from the start or from a snapshot; `stop` is asked after every step.

    A listener that wants the best adapter copies it at a `Checked` event, one that writes checkpoints does so at a
    `Due` one. Raises InputError when there is nothing to train or validate on, and FoldKitError when a step is bad and
    bad ones are not to be skipped.
    """
    for name, examples in (("train", train), ("validation", validation)):
        if not examples:
            raise InputError("[split]", f"rows in {name}", "at least one", "none", "add rows or change the split")
    loop = _Loop(decoder, adapter, train, validation, settings)
    torch.manual_seed(settings.seed)
    if resume:
        loop.state.restore(resume)
    decoder.recompute = settings.recompute
    try:
        yield from loop.events(stop)
    finally:
        decoder.recompute = False
        decoder.eval()


class _Loop:
    def __init__(
        self,
        decoder: Decoder,
        adapter: Adapter,
        train: Sequence[Example],
        validation: Sequence[Example],
        settings: TrainSettings,
    ) -> None:
        self.decoder, self.adapter, self.train, self.settings = decoder, adapter, train, settings
        self.lengths = [len(example.ids) for example in train]
        self.n_steps, self.n_epoch = count_steps(self.lengths, settings)
        self.checks, self.n_validation = micro_batches(validation, settings), len(validation)
        average = [factor.detach().clone() for factor in adapter.parameters] if settings.averaging else []
        self.state = TrainState(adapter, make_optimiser(adapter, settings), average)
        self.began, self.before = time.perf_counter(), 0.0

    def events(self, stop: Callable[[], bool]) -> Iterator[TrainEvent]:
        settings, counts = self.settings, self.state.counts
        self.began, self.before = time.perf_counter(), counts.seconds
        due = check_steps(self.n_steps, self.n_epoch, settings)
        yield self._started()
        reason = ""
        steps = itertools.islice(batches(self.lengths, settings), counts.step, self.n_steps)
        for step, indices in enumerate(steps, counts.step + 1):
            examples = [self.train[index] for index in indices]
            yield from self._step(step, examples)
            counts.seconds = self._seconds()
            reason = self._ends(stop)
            if step in due or reason == "out of time":
                with self._averaged():
                    yield self._checked(step)
                if settings.patience and counts.n_worse >= settings.patience:
                    reason = reason or "no better"
            at_check = not settings.checkpoint_every and step in due
            if reason or at_check or (settings.checkpoint_every and step % settings.checkpoint_every == 0):
                yield Due(step, self.state.snapshot)
            if reason:
                break
        yield Finished(
            counts.step,
            reason or "done",
            counts.best_step,
            counts.best_loss,
            counts.n_skipped,
            self._seconds(),
            peak_bytes(),
        )

    def _ends(self, stop: Callable[[], bool]) -> str:
        """Return why the training ends before its last step, "" for not yet."""
        if stop():
            return "stopped"
        minutes = self.settings.minutes
        return "out of time" if minutes and self._seconds() >= 60 * minutes else ""

    def _step(self, step: int, examples: Sequence[Example]) -> Iterator[TrainEvent]:
        settings, counts, started = self.settings, self.state.counts, time.perf_counter()
        rate = rate_at(self._place(step - 1), self.n_steps, settings)
        set_rate(self.state.optimiser, rate)
        gradient = self._gradient(micro_batches(examples, settings))
        bad = self._badness(gradient)
        rows = tuple(example.row for example in examples)
        if bad:
            self.state.optimiser.zero_grad(set_to_none=True)
            if settings.bad_steps == "stop":
                yield Due(step - 1, self.state.snapshot)
                named = ", ".join(map(str, rows))
                raise FoldKitError(f"step {step}: {bad} on rows {named}; the adapter before it is kept: lower the rate")
            counts.step, counts.n_skipped = step, counts.n_skipped + 1
            yield Skipped(step, bad, rows)
            return
        update = self._update()
        n_tokens = sum(len(example.ids) for example in examples)
        counts.step, counts.n_tokens = step, counts.n_tokens + n_tokens
        counts.n_examples += len(examples)
        smoothed = counts.smoothed_loss
        counts.smoothed_loss = gradient.loss if smoothed is None else _SMOOTH * smoothed + (1 - _SMOOTH) * gradient.loss
        now = time.perf_counter()
        yield Stepped(
            step,
            counts.n_examples / len(self.train),
            gradient.loss,
            counts.smoothed_loss,
            gradient.accuracy,
            gradient.norm,
            update,
            rate,
            counts.n_tokens,
            counts.n_examples,
            n_tokens / (now - started),
            self._seconds(),
            self._to_go(),
            peak_bytes(),
        )

    def _gradient(self, pieces: Sequence[Batch]) -> _Gradient:
        """Add up the gradient of the batch's mean loss, and clip it."""
        self.decoder.train()
        n_learned = sum(piece.n_learned for piece in pieces)
        total, n_hit = 0.0, 0
        for piece in pieces:
            with noisy(self.decoder, piece, self.settings.noise):
                loss = summed_loss(self.decoder, piece, self.settings.smoothing)
            torch.autograd.backward(loss.total / n_learned)
            total, n_hit = total + loss.total.item(), n_hit + loss.n_hit
        self.decoder.eval()
        norm = float(torch.nn.utils.clip_grad_norm_(self.adapter.parameters, self.settings.clip))
        return _Gradient(total / n_learned, n_hit / n_learned, norm)

    def _badness(self, gradient: _Gradient) -> str:
        """Return what is wrong with a step, "" for nothing."""
        if not math.isfinite(gradient.loss) or not math.isfinite(gradient.norm):
            return f"loss {gradient.loss}, gradient norm {gradient.norm}"
        smoothed, most = self.state.counts.smoothed_loss, self.settings.runaway
        if most and smoothed is not None and gradient.loss > most * smoothed:
            return f"loss {gradient.loss:.3f}, {gradient.loss / smoothed:.1f} times the smoothed one"
        return ""

    def _update(self) -> float:
        """Make the step; return its length over that of all factors."""
        before = [factor.detach().clone() for factor in self.adapter.parameters]
        self.state.optimiser.step()
        self.state.optimiser.zero_grad(set_to_none=True)
        after = [factor.detach() for factor in self.adapter.parameters]
        keep = self.settings.averaging
        for average, factor in zip(self.state.average, after, strict=False):
            average.mul_(keep).add_(factor, alpha=1 - keep)
        moved = _length([b - a for a, b in zip(before, after, strict=True)])
        return moved / max(_length(after), 1e-30)

    def _checked(self, step: int) -> Checked:
        counts = self.state.counts
        loss, accuracy = mean_loss(self.decoder, self.checks)
        score = -loss if self.settings.best_by == "loss" else accuracy
        improved = counts.best is None or score > counts.best
        if improved:
            counts.best, counts.best_step, counts.best_loss, counts.n_worse = score, step, loss, 0
        else:
            counts.n_worse += 1
        counts.seconds = self._seconds()
        return Checked(step, loss, accuracy, improved, counts.seconds)

    @contextlib.contextmanager
    def _averaged(self) -> Iterator[None]:
        """Put the running average in the place of the factors, where there is one."""
        own = [factor.detach().clone() for factor in self.adapter.parameters] if self.state.average else []
        for factor, average in zip(self.adapter.parameters, self.state.average, strict=False):
            factor.data.copy_(average)
        try:
            yield
        finally:
            for factor, value in zip(self.adapter.parameters, own, strict=False):
                factor.data.copy_(value)

    def _started(self) -> Started:
        n_trainable = self.adapter.n_parameters
        n_bytes = sum(factor.numel() * factor.element_size() for factor in self.adapter.parameters)
        n_base = self.decoder.n_parameters - n_trainable
        step = self.state.counts.step
        return Started(step, self.n_steps, len(self.train), self.n_validation, n_trainable, n_base, n_bytes)

    def _seconds(self) -> float:
        return self.before + time.perf_counter() - self.began

    def _place(self, step: int) -> int:
        """Return the step that the schedule is at: by time, where that is further on than by steps."""
        minutes = self.settings.minutes
        by_time = int(self._seconds() / (60 * minutes) * self.n_steps) if minutes else 0
        return min(max(step, by_time), self.n_steps - 1)

    def _to_go(self) -> float:
        counts = self.state.counts
        by_steps = self._seconds() / counts.step * (self.n_steps - counts.step)
        minutes = self.settings.minutes
        return max(0.0, min(by_steps, 60 * minutes - self._seconds())) if minutes else by_steps


def _length(tensors: Sequence[Tensor]) -> float:
    return math.sqrt(sum(float(tensor.double().square().sum()) for tensor in tensors))
