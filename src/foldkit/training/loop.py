"""The loop: batches to gradients to steps, yielding an event for each thing that happened."""

from __future__ import annotations

import functools
import itertools
import math
import time
from collections.abc import Callable, Generator, Iterator, Sequence

import torch
from torch import Tensor

from foldkit.adapters.attaching import Adapter
from foldkit.datasets import Example, token_counts
from foldkit.formats import FoldKitError, LostProcessError
from foldkit.models.decoder import Decoder
from foldkit.models.freeing import memory_kept
from foldkit.models.random_state import random_state

from .averaging import Average
from .batches import batches, check_parts, count_steps
from .events import Checked, Checking, Due, Finished, Skipped, Started, Stepped, TrainEvent
from .memory import peak_bytes
from .objective import Objective, Tally, tallies
from .pair_objective import Reference, objective_for
from .schedule import check_steps, rate_at, steps_end
from .settings import BEST_BY, TrainSettings
from .state import Snapshot, TrainState
from .stepping import Gradient, Stepper
from .team import ALONE, Team, sent_within

# How much of the smoothed loss each step keeps.
_SMOOTH = 0.95
# Seconds after which what was done since the last checkpoint is kept, whatever else is due.
_LONG = 600
# Steps in a row that are left out as bad: as nothing is learned in between, the next will be so too.
_BAD = 10
# Seconds between two events of one validation.
_SHOWN = 1.0


def train_adapter(
    decoder: Decoder,
    adapter: Adapter,
    train: Sequence[Example],
    validation: Sequence[Example],
    settings: TrainSettings,
    *,
    resume: Snapshot | None = None,
    stop: Callable[[], bool] = lambda: False,
    team: Team = ALONE,
    reference: Reference | None = None,
) -> Iterator[TrainEvent]:
    """Train the adapter in place, from the start or from a snapshot.

    `stop` is asked after every step, and after every pass of a validation, which is made when the training goes on.
    A listener that wants the best adapter copies it at a `Checked` event, one that writes checkpoints does so at a
    `Due` one. With a team all processes call this with the same rows and settings, and each makes a part of the passes;
    events are the same in all. `reference` has the reference's values by row, for an objective of pairs; examples then
    have rejected replies. Raises InputError when there is nothing to train or validate on, and FoldKitError when a
    step is bad and bad ones are not to be skipped, or when another process has ended.
    """
    check_parts(train, validation, settings)
    objectives = [objective_for(settings, examples, reference) for examples in (train, validation)]
    loop = _Loop(decoder, adapter, train, validation, settings, team, *objectives)
    torch.manual_seed(settings.seed + team.rank)
    if resume:
        loop.state.restore(resume, team.rank)
    loop.random = team.of_all(random_state(decoder.device))
    try:
        with memory_kept():
            yield from loop.events(stop)
    finally:
        decoder.eval()


def _said_of_bad(step: int, bad: str, rows: Sequence[int], n_bad: int) -> str:
    """Return what ends a training: a bad step, or so many in a row that were left out."""
    many = f"the {n_bad} steps up to {step} were all bad, the last" if n_bad else f"step {step}"
    named = f"{bad} on rows {', '.join(map(str, rows))}"
    return f"{many}: {named}; the adapter before {'them' if n_bad else 'it'} is kept: lower the rate"


class _Loop:
    def __init__(
        self,
        decoder: Decoder,
        adapter: Adapter,
        train: Sequence[Example],
        validation: Sequence[Example],
        settings: TrainSettings,
        team: Team,
        objective: Objective,
        check_objective: Objective,
    ) -> None:
        self.decoder, self.adapter, self.train, self.settings, self.team = decoder, adapter, train, settings, team
        self.lengths = token_counts(train)
        self.n_steps, n_epoch = count_steps(self.lengths, settings)
        self.due = check_steps(self.n_steps, n_epoch, settings)
        self.check_objective = check_objective
        self.checks, self.n_validation = check_objective.passes(list(validation), team.size), len(validation)
        self.n_check_tokens = sum(token_counts(validation))
        self.stepper = Stepper(decoder, adapter, settings, objective, team)
        self.state = TrainState(adapter, self.stepper.optimiser, Average(self.stepper.factors, settings.averaging))
        self.began, self.before, self.kept = time.perf_counter(), 0.0, 0.0
        # The random states of all processes after the last step.
        self.random: list[Tensor] = []
        # How long the next validation is thought to take.
        self.check_seconds = 0.0

    def events(self, stop: Callable[[], bool]) -> Iterator[TrainEvent]:
        counts = self.state.counts
        self.began, self.before, self.kept = time.perf_counter(), counts.seconds, counts.seconds
        yield self._started()
        try:
            with sent_within():
                reason = yield from self._steps(stop)
        except LostProcessError as lost:
            self.stepper.drop()
            yield self._due()
            kept = f"step {counts.step} is kept: go" if self.team.rank == 0 else "what the first one kept goes"
            raise LostProcessError(f"{lost}; {kept} on with --resume") from None
        yield Finished(
            step=counts.step,
            reason=reason or "done",
            best_step=counts.best_step,
            best_validation_loss=counts.best_loss,
            n_skipped=counts.n_skipped,
            seconds=self._seconds(),
            peak_bytes=peak_bytes(self.decoder.device),
        )

    def _steps(self, stop: Callable[[], bool]) -> Generator[TrainEvent, None, str]:
        """Make the steps that are left, and return why they end."""
        counts = self.state.counts
        reason = self._no_better()
        if (
            counts.step in self.due and counts.checked_step < counts.step
        ):  # it was stopped before this validation, or in it
            reason = yield from self._after_step("", stop, is_due=True)
        n_steps = counts.step if reason else self.n_steps
        for indices in itertools.islice(batches(self.lengths, self.settings), counts.step, n_steps):
            step = counts.step + 1
            yield from self._step(step, [self.train[index] for index in indices])
            reason = yield from self._after_step(self._ends(stop), stop, is_due=step in self.due)
            if reason:
                break
        return reason

    def _after_step(self, reason: str, stop: Callable[[], bool], *, is_due: bool) -> Generator[TrainEvent, None, str]:
        """Validate and keep what is due, and return why the training ends, which `reason` says already, or ""."""
        counts, every, now = self.state.counts, self.settings.checkpoint_every, self.state.counts.seconds
        if reason != "stopped" and (is_due or reason == "out of time"):
            if now + self.check_seconds - self.kept >= _LONG:
                self.kept = now
                yield self._due()
            ended = yield from self._check(stop)
            reason = (reason or self._no_better()) if ended else "stopped"
        if reason or (counts.step % every == 0 if every else is_due) or now - self.kept >= _LONG:
            self.kept = now
            yield self._due()
        return reason

    def _ends(self, stop: Callable[[], bool]) -> str:
        """Return why the training ends before its last step, "" for not yet: by the first clock, and any one's stop."""
        own = (self._seconds(), self._seconds_of_check()) if self.team.rank == 0 else (0.0, 0.0)
        self.state.counts.seconds, self.check_seconds, n_stopped = self.team.totals(*own, stop())
        if n_stopped:
            return "stopped"
        return "out of time" if self.state.counts.seconds >= steps_end(self.settings, self.check_seconds) else ""

    def _seconds_of_check(self) -> float:
        """Return how long a validation takes: as long as the last one, or a third of what as many trained tokens do."""
        counts = self.state.counts
        if counts.check_seconds or not counts.n_tokens:
            return counts.check_seconds
        return self._seconds() / counts.n_tokens * self.n_check_tokens / 3

    def _no_better(self) -> str:
        """Return that the patience is spent, "" while it is not."""
        spent = self.settings.patience and self.state.counts.n_worse >= self.settings.patience
        return "no better" if spent else ""

    def _due(self) -> Due:
        return Due(self.state.counts.step, functools.partial(self.state.snapshot, self.random))

    def _step(self, step: int, examples: Sequence[Example]) -> Iterator[TrainEvent]:
        counts, started = self.state.counts, time.perf_counter()
        rate = rate_at(self._place(step - 1), self.n_steps, self.settings)
        gradient = self.stepper.gradient(self.stepper.passes(examples))
        random = self.team.of_all(random_state(self.decoder.device))
        if bad := self._badness(gradient):
            yield from self._leave_out(step, bad, tuple(example.row for example in examples), random)
            return
        self.random, update, counts.n_bad = random, self.stepper.update(rate), 0
        self._count(step, examples, gradient, update)
        yield self._stepped(gradient, update, rate, sum(token_counts(examples)) / (time.perf_counter() - started))

    def _leave_out(self, step: int, bad: str, rows: tuple[int, ...], random: list[Tensor]) -> Iterator[TrainEvent]:
        """Skip a bad step, or end the training with the state before it."""
        counts = self.state.counts
        self.stepper.drop()
        if self.settings.bad_steps == "skip":
            self.random, counts.step, counts.n_bad = random, step, counts.n_bad + 1
            counts.n_skipped += 1
            yield Skipped(step, bad, rows)
        if self.settings.bad_steps == "stop" or counts.n_bad >= _BAD:
            yield self._due()
            raise FoldKitError(_said_of_bad(step, bad, rows, counts.n_bad))

    def _count(self, step: int, examples: Sequence[Example], gradient: Gradient, update: float) -> None:
        """Take a good step into the counts and the averages."""
        counts, loss = self.state.counts, gradient.loss
        counts.step, counts.n_examples = step, counts.n_examples + len(examples)
        counts.n_tokens += sum(token_counts(examples))
        smoothed = counts.smoothed_loss
        counts.smoothed_loss = loss if smoothed is None else _SMOOTH * smoothed + (1 - _SMOOTH) * loss
        counts.last = {
            "train_loss": loss,
            "train_accuracy": gradient.accuracy,
            "smoothed_loss": counts.smoothed_loss,
            "gradient_norm": gradient.norm,
            "update_ratio": update,
        }
        self.state.average.take(counts.step - counts.n_skipped)

    def _stepped(self, gradient: Gradient, update: float, rate: float, tokens_per_second: float) -> Stepped:
        counts = self.state.counts
        assert counts.smoothed_loss is not None
        return Stepped(
            step=counts.step,
            epoch=counts.n_examples / len(self.train),
            loss=gradient.loss,
            smoothed_loss=counts.smoothed_loss,
            token_accuracy=gradient.accuracy,
            gradient_norm=gradient.norm,
            update_ratio=update,
            learning_rate=rate,
            n_tokens=counts.n_tokens,
            n_examples=counts.n_examples,
            tokens_per_second=tokens_per_second,
            seconds=self._seconds(),
            to_go=self._to_go(),
            peak_bytes=peak_bytes(self.decoder.device),
            figures=gradient.figures,
        )

    def _badness(self, gradient: Gradient) -> str:
        """Return what is wrong with a step, "" for nothing."""
        if not math.isfinite(gradient.loss) or not math.isfinite(gradient.norm):
            return f"loss {gradient.loss}, gradient norm {gradient.norm}"
        smoothed, most = self.state.counts.smoothed_loss, self.settings.runaway
        if most and smoothed is not None and gradient.loss > most * smoothed:
            return f"loss {gradient.loss:.3f}, {gradient.loss / smoothed:.1f} times the smoothed one"
        return ""

    def _check(self, stop: Callable[[], bool]) -> Generator[TrainEvent, None, bool]:
        """Validate, and return whether it came to its end: what was asked to stop does so after any pass."""
        step, tally, n_passes = self.state.counts.step, Tally(), len(self.team.share(self.checks))
        began = told = self._seconds()
        with self.state.average.in_place():
            for n_done, sums in enumerate(tallies(self.decoder, self.check_objective, self.checks, self.team), 1):
                tally = sums
                if n_done < n_passes and self.team.totals(stop())[0]:
                    return False
                if self._seconds() - told >= _SHOWN:
                    told = self._seconds()
                    yield Checking(step, n_done, n_passes)
            yield self._checked(step, tally.shared(self.team), began)
        return True

    def _checked(self, step: int, found: Tally, began: float) -> Checked:
        counts = self.state.counts
        loss, accuracy = found.loss, found.accuracy
        figures = {**counts.last, **found.figures, "loss": loss, "accuracy": accuracy}
        figure = figures.get(self.settings.best_by, math.nan)
        score = figure if BEST_BY[self.settings.best_by] else -figure
        known = math.isfinite(loss) and not math.isnan(score)
        improved = known and (counts.best is None or score > counts.best)
        if improved:
            counts.best, counts.best_step, counts.best_loss, counts.n_worse = score, step, loss, 0
        else:
            counts.n_worse += 1
        counts.seconds = self._seconds()
        counts.checked_step, counts.check_seconds = step, counts.seconds - began
        return Checked(step, loss, accuracy, improved, counts.seconds, found.figures)

    def _started(self) -> Started:
        n_trainable = self.adapter.n_parameters
        return Started(
            step=self.state.counts.step,
            n_steps=self.n_steps,
            n_train=len(self.train),
            n_validation=self.n_validation,
            n_trainable=n_trainable,
            n_base=self.decoder.n_parameters - n_trainable,
            trainable_bytes=sum(factor.numel() * factor.element_size() for factor in self.stepper.factors),
        )

    def _seconds(self) -> float:
        return self.before + time.perf_counter() - self.began

    def _place(self, step: int) -> int:
        """Return the step that the schedule is at: by time, where that is further on than by steps."""
        by_time = int(self.state.counts.seconds / steps_end(self.settings, self.check_seconds) * self.n_steps)
        return min(max(step, by_time), self.n_steps - 1)

    def _to_go(self) -> float:
        counts, check = self.state.counts, self._seconds_of_check()
        n_checked = sum(step <= counts.checked_step for step in self.due)
        of_steps = max(0.0, self._seconds() - n_checked * counts.check_seconds)
        by_steps = of_steps / counts.step * (self.n_steps - counts.step) + (len(self.due) - n_checked) * check
        by_time = steps_end(self.settings, check) + check
        return max(0.0, min(by_steps, by_time - self._seconds()))
