"""What a training's figures show, in words: each claim with its numbers and one thing to try; else nothing.

A figure is held against its own scatter before anything is said of it, so that a healthy curve stays without comment.
"""

from __future__ import annotations

import functools
from collections.abc import Callable
from dataclasses import dataclass, field

import numpy as np

from foldkit.runs import RunLog

# Shares of a loss that a change must come to before it is spoken of.
_FLAT, _FALLING, _TURNED, _DIVERGED = 0.02, 0.08, 0.06, 0.3
# Fewer points than these tell nothing.
FEWEST, _CHECKS = 20, 4
# A step that is so long, of the length of what is trained, is no short one.
_FAR = 0.2
# By this share above the loss of the first step, the steps themselves have done harm.
_BLOWN = 0.2
# What validations move by is nothing below this share of the loss at the start.
_STILL = 0.0005
# A spike rises by this share of the loss at the start at least: of a low one some small batches have twice as much.
_SPIKE = 0.1
# The figures of steps that a diagnosis needs.
FIGURES = ("loss", "epoch", "seconds", "learning_rate", "update_ratio")
# Validations that take this share of a training, and so many seconds, are spoken of.
_LONG_SHARE, _LONG_SECONDS = 0.25, 30.0
_TOO_HIGH = "learning rate too high"
_TENTH = "try a tenth of it, or foldkit train --find-rate"


@dataclass(frozen=True)
class Diagnosis:
    """One claim: its name, what the figures show, and what to try."""

    name: str
    says: str
    todo: str

    def __str__(self) -> str:
        return f"{self.name}: {self.says}; {self.todo}"


@dataclass(frozen=True)
class Facts:
    """What is known of a training: losses of steps and of validations, what it began with, how long it took, its end.

    `moved` is the length of the longest step over that of what is trained, 0 where it is not known.
    `reason` is that of the run, "killed" or "failed" where it has none, "" while it is still at work.
    """

    steps: np.ndarray
    losses: np.ndarray
    rates: np.ndarray = field(default_factory=lambda: np.zeros(0))
    check_steps: np.ndarray = field(default_factory=lambda: np.zeros(0))
    checks: np.ndarray = field(default_factory=lambda: np.zeros(0))
    n_train: int = 0
    n_validation: int = 0
    n_steps: int = 0
    epochs: float = 0.0
    n_skipped: int = 0
    reason: str = ""
    seconds: float = 0.0
    check_seconds: float = 0.0
    moved: float = 0.0

    @functools.cached_property
    def course(self) -> np.ndarray:
        """The mean loss of as many steps as `tail` has, ending at each step, from the first that has so many."""
        width, sums = len(self.tail), np.concatenate(([0.0], np.cumsum(self.losses)))
        return np.asarray((sums[width:] - sums[:-width]) / width)

    @property
    def begin(self) -> float:
        """The mean loss of the first tenth of the steps at most, and of ten of them at most."""
        return float(self.losses[: max(1, min(10, len(self.losses) // 10))].mean())

    @property
    def tail(self) -> np.ndarray:
        """The losses of the last tenth of the steps, of five of them at least."""
        return self.losses[-max(5, len(self.losses) // 10) :]

    @property
    def end(self) -> float:
        """The mean loss of the last tenth of the steps."""
        return float(self.tail.mean())

    @property
    def end_error(self) -> float:
        """The standard error of `end`."""
        return float(self.tail.std() / np.sqrt(len(self.tail)))

    def clear_of(self, place: int) -> float:
        """Return by how much a mean of the course, from this place on, stands clear of another: eight of its errors."""
        return float(8 * np.diff(self.losses[place:]).std() / np.sqrt(2 * len(self.tail)))

    @property
    def check_noise(self) -> float:
        """How far validations scatter about the line between their neighbours (standard deviation)."""
        if len(self.checks) < _CHECKS:
            return 0.0
        bent = self.checks[1:-1] - (self.checks[:-2] + self.checks[2:]) / 2
        late = bent[len(bent) // 2 :] if len(bent) >= 6 else bent[1:]
        return float(np.sqrt(np.mean(late**2) / 1.5))

    def near(self, step: float) -> float:
        """Return the mean train loss of the tenth of the steps that ends with this one."""
        place = int(np.searchsorted(self.steps, step, side="right"))
        return float(self.losses[max(0, place - max(5, len(self.losses) // 10)) : max(1, place)].mean())


def diagnose(log: RunLog, reason: str = "") -> list[Diagnosis]:
    """Return what the figures of a log show. `reason` says why the training ended, "" that it has not."""
    facts = facts_of(log, reason)
    rules = RULES if len(facts.losses) >= FEWEST else OF_FEW
    claims = [found for rule in rules for found in [rule(facts)] if found]
    names = {found.name for found in claims}
    return [found for found in claims if not names & OVERRULED.get(found.name, set())]


def facts_of(log: RunLog, reason: str = "") -> Facts:
    """Return the facts of a log."""
    steps, losses = log.arrays("step", "step", "loss")
    (rates,) = log.arrays("step", "learning_rate")
    check_steps, checks = log.arrays("validation", "step", "validation_loss")
    (epochs,) = log.arrays("step", "epoch")
    started = log.last("started")
    return Facts(
        steps,
        losses,
        rates if len(rates) == len(losses) else np.ones(len(losses)),
        check_steps,
        checks,
        int(started.get("n_train", 0)),
        int(started.get("n_validation", 0)),
        int(started.get("n_steps", 0)),
        float(epochs[-1]) if len(epochs) else 0.0,
        len(log.of("skipped")),
        reason,
        *_seconds(log),
        float(max(log.arrays("step", "update_ratio")[0], default=0.0)),
    )


def _seconds(log: RunLog) -> tuple[float, float]:
    """Return how long a training took, and its validations, each from the step before it."""
    steps, ended = log.arrays("step", "step", "seconds")
    check_steps, checked = log.arrays("validation", "step", "seconds")
    known = np.isin(check_steps, steps)
    began = ended[np.searchsorted(steps, check_steps[known])]
    return float(np.max([*ended[-1:], *checked[-1:]], initial=0.0)), float((checked[known] - began).sum())


def _skipped(facts: Facts) -> Diagnosis | None:
    if not facts.n_skipped:
        return None
    says = f"{facts.n_skipped} of {len(facts.losses) + facts.n_skipped} steps were skipped as bad"
    return Diagnosis(_TOO_HIGH, says, "try a third of the learning rate, or a longer warm-up")


def _rate_too_high(facts: Facts) -> Diagnosis | None:
    """Return a claim where the losses of the steps show that they did harm."""
    found = harm(facts) or _both_rose(facts)
    if found:
        return found
    spikes = _spikes(facts.losses, _SPIKE * facts.begin)
    if len(spikes) >= max(3, len(facts.losses) // 200):
        worst = spikes[facts.losses[spikes].argmax()]
        says = f"{len(spikes)} steps stand at twice their neighbours or more, the worst at {facts.losses[worst]:.3f}"
        todo = "try half the learning rate, a longer warm-up, or a lower clip"
        return Diagnosis(_TOO_HIGH, f"{says} (step {facts.steps[worst]})", todo)
    return None


def harm(facts: Facts, sure: float = 1.0) -> Diagnosis | None:
    """Return a claim where a loss that rose shows a rate that is too high; to be `sure` it rose so many times more."""
    says = _nothing_learned(facts, sure)
    if says:
        return Diagnosis(_TOO_HIGH, says, _TENTH)
    says = _rose(facts, sure)
    return Diagnosis(_TOO_HIGH, says, "try a third of the learning rate") if says else None


def _nothing_learned(facts: Facts, sure: float) -> str:
    """Say that the loss blew up and came down to no less than it was before the first step."""
    first, course = float(facts.losses[0]), facts.course
    high = int(course.argmax())
    least = sure * max(_BLOWN * first, facts.clear_of(0))
    if facts.steps[0] != 1 or facts.end < first or course[high] - first <= least:
        return ""
    mean = f"{course[high]:.3f} in the mean of {len(facts.tail)} steps up to {_step_of(facts, high)}"
    return f"train loss was {first:.3f} at the first step, {mean}, and is {facts.end:.3f}: nothing was learned"


def _rose(facts: Facts, sure: float) -> str:
    """Say that the loss rose from a mean that it had reached, be it that it fell again."""
    course = facts.course
    lows = np.minimum.accumulate(course)
    high = int((course - lows).argmax())
    low = int(course[: high + 1].argmin())
    least = max(_DIVERGED * course[low], facts.clear_of(low), _FLAT * facts.begin)
    if course[high] - course[low] <= sure * least:
        return ""
    where = "the end" if high + 1 == len(course) else f"step {_step_of(facts, high)}"
    said = f"rose from {course[low]:.3f} at step {_step_of(facts, low)} to {course[high]:.3f} at {where}"
    return f"train loss itself {said}{_by(course[low], course[high])}"


def _by(low: float, high: float) -> str:
    """Say by which share of itself a loss rose; of none there is no share."""
    return f" (+{high / low - 1:.0%})" if low else ""


def _both_rose(facts: Facts) -> Diagnosis | None:
    """Return a claim where validation doubled while the steps had a higher loss than the first one.

    Losses of batches that lie far apart hide what the same rows of every validation show.
    """
    if not len(facts.checks):
        return None
    lows = np.minimum.accumulate(facts.checks)
    high = int((facts.checks - 2 * lows).argmax())
    low, top, step = lows[high], facts.checks[high], facts.check_steps[high]
    if facts.steps[0] != 1 or top < 2 * low or facts.near(step) <= facts.losses[0]:
        return None
    says = f"validation rose from {low:.3f} to {top:.3f} at step {step}, where train loss was {facts.near(step):.3f}"
    return Diagnosis(_TOO_HIGH, f"{says}, {facts.losses[0]:.3f} at the first step", "try a third of the learning rate")


def _step_of(facts: Facts, place: int) -> int:
    """Return the step at which a mean of the course ends."""
    return int(facts.steps[place + len(facts.tail) - 1])


def _spikes(losses: np.ndarray, least: float, reach: int = 7) -> np.ndarray:
    """Return the places of losses far above the median of their neighbours, and by so much at least."""
    padded = np.pad(losses, reach, mode="edge")
    windows = np.lib.stride_tricks.sliding_window_view(padded, 2 * reach + 1)
    median = np.median(windows, 1)
    spread = 1.4826 * np.median(np.abs(windows - median[:, None]), 1)
    return np.flatnonzero((losses > 2 * median) & (losses > median + np.maximum(8 * spread, least)))


def _flat(facts: Facts) -> Diagnosis | None:
    fall = facts.begin - facts.end
    within = 0.9 * facts.begin <= facts.course.min() and facts.course.max() <= (1 + _DIVERGED) * facts.begin
    if abs(fall) >= max(_FLAT * facts.begin, 3 * facts.end_error) or not within:
        return None
    says = f"train loss was {facts.begin:.3f} at the start and {facts.end:.3f} at step {facts.steps[-1]}"
    todo = "try ten times the learning rate; look at the learned part with foldkit look"
    return _unless_far(facts, Diagnosis("flat", says, todo))


def _rate_too_low(facts: Facts) -> Diagnosis | None:
    """Return a claim where the loss fell a little, and for the second half of all rates as much as for the first."""
    fall = facts.begin - facts.end
    least = max(_FLAT * facts.begin, 3 * facts.end_error)
    if not facts.reason or fall <= 0 or not least <= fall <= 0.4 * facts.begin:
        return None
    half, reach = _half(facts), len(facts.tail) // 2
    late = (float(facts.losses[max(0, half - reach) : half + reach + 1].mean()) - facts.end) / fall
    if late < 0.38:
        return None
    says = (
        f"train loss fell by {fall / facts.begin:.0%} in {facts.steps[-1]} steps, {late:.0%} of it after step "
        f"{facts.steps[half]}, when half of all rates were spent"
    )
    todo = "try three to ten times the rate, or foldkit train --find-rate"
    return _unless_far(facts, Diagnosis("learning rate too low", says, todo))


def _unless_far(facts: Facts, found: Diagnosis) -> Diagnosis:
    """Return a claim that calls for longer steps, or, where steps were long already, that they are too long."""
    if facts.moved < _FAR:
        return found
    says = f"{found.says}, and a step moved the adapter by {facts.moved:.0%} of its length"
    return Diagnosis(_TOO_HIGH, says, _TENTH)


def _half(facts: Facts) -> int:
    """Return the place of the step with which the rates of all have come to half of their sum."""
    spent = facts.rates.cumsum()
    return int(np.searchsorted(spent, spent[-1] / 2))


def _still_falling(facts: Facts) -> Diagnosis | None:
    if facts.reason != "done" or len(facts.checks) < _CHECKS:
        return None
    back = max(1, len(facts.checks) // 4)
    before, last = facts.checks[-1 - back], facts.checks[-1]
    least = max(_FALLING * last, 3 * facts.check_noise)
    if facts.checks.argmin() != len(facts.checks) - 1 or before - last <= least:
        return None
    where = f"steps {facts.check_steps[-1 - back]} to {facts.check_steps[-1]}"
    says = f"validation fell from {before:.4f} to {last:.4f} in the last part ({where})"
    return Diagnosis("still falling", says, "try twice the epochs")


def _overfitting(facts: Facts) -> Diagnosis | None:
    """Return a claim where validation turned while train went on falling."""
    if len(facts.checks) < _CHECKS:
        return None
    best = int(facts.checks.argmin())
    after = facts.checks[best + 1 :]
    if len(after) < 2:
        return None
    low, late = facts.checks[best], float(after[-2:].mean())
    from_train, to_train = facts.near(facts.check_steps[best]), facts.end
    clear = late - low >= max(3 * facts.check_noise, _STILL * facts.begin)
    if late - low <= _TURNED * low or not clear or to_train > 0.97 * from_train:
        return None
    says = (
        f"validation was lowest, {low:.4f}, at step {facts.check_steps[best]} and {late:.4f} at the end"
        f"{_by(low, late)}, while train loss went from {from_train:.3f} to {to_train:.3f}"
    )
    return Diagnosis("overfitting", says, "the adapter kept is that of the lowest; try fewer epochs or more rows")


def _memorised(facts: Facts) -> Diagnosis | None:
    if not len(facts.checks) or facts.end > 0.05 or facts.checks[-1] < max(0.1, 5 * facts.end):
        return None
    times = f", {facts.checks[-1] / facts.end:.0f} times it" if facts.end else ""
    says = f"train loss is {facts.end:.4f}, validation {facts.checks[-1]:.3f}{times}"
    return Diagnosis("memorised", says, "try fewer epochs, a lower rank, dropout, or more rows")


def _too_few_rows(facts: Facts) -> Diagnosis | None:
    if facts.epochs < 8 or not facts.n_train or not (_overfitting(facts) or _memorised(facts)):
        return None
    says = f"each of the {facts.n_train} rows was gone through {facts.epochs:.0f} times"
    return Diagnosis("too few rows for the steps", says, "try more rows, or fewer epochs")


def _noisy_validation(facts: Facts) -> Diagnosis | None:
    if len(facts.checks) < 6 or not 0 < facts.n_validation < 100 or facts.check_noise < _STILL * facts.begin:
        return None
    late = facts.checks[len(facts.checks) // 3 :]
    jumps = np.diff(late)
    turns = int((jumps[1:] * jumps[:-1] < 0).sum())
    share = facts.check_noise / (float(late.mean()) or 1.0)
    if share < 0.04 or turns < max(2, (len(jumps) - 1) / 2):
        return None
    says = f"validation goes up and down by {share:.0%} about its course, with {facts.n_validation} rows"
    return Diagnosis("noisy validation", says, "differences smaller than that tell nothing: try more validation rows")


def _stopped_early(facts: Facts) -> Diagnosis | None:
    step = int(facts.steps[-1]) if len(facts.steps) else 0
    if facts.reason in ("", "done", "no better") or not facts.n_steps or step >= 0.95 * facts.n_steps:
        return None
    says = f"ended at step {step} of {facts.n_steps} ({facts.reason})"
    if len(facts.checks) >= 2 and facts.checks.argmin() == len(facts.checks) - 1:
        says += f", when the last validation, {facts.checks[-1]:.4f}, was the best"
    todo = "give it more minutes" if facts.reason == "out of time" else "go on: foldkit train --resume"
    return Diagnosis("stopped early", says, todo)


def _few_steps(facts: Facts) -> Diagnosis | None:
    """Return a claim where a training was at its end before it had begun to learn."""
    if facts.reason != "done" or len(facts.checks) < 2 or facts.checks.argmin() != len(facts.checks) - 1:
        return None
    if facts.checks[0] - facts.checks[-1] < _FLAT * facts.checks[0]:
        return None
    fell = f"from {facts.checks[0]:.4f} to {facts.checks[-1]:.4f}"
    says = f"{len(facts.losses)} in all, and validation fell to the last, {fell}"
    return Diagnosis("few steps", says, "try more epochs, or a smaller batch")


def _long_validations(facts: Facts) -> Diagnosis | None:
    if facts.check_seconds < max(_LONG_SECONDS, _LONG_SHARE * facts.seconds):
        return None
    says = f"{facts.check_seconds:,.0f} of {facts.seconds:,.0f} s went into {len(facts.checks)} of them"
    return Diagnosis(
        "long validations", says, "a smaller split.validation, or fewer train.validations, leaves more to steps"
    )


RULES: tuple[Callable[[Facts], Diagnosis | None], ...] = (
    _stopped_early,
    _skipped,
    _rate_too_high,
    _flat,
    _rate_too_low,
    _still_falling,
    _overfitting,
    _memorised,
    _too_few_rows,
    _noisy_validation,
    _long_validations,
)
# Those of a training of few steps.
OF_FEW = (_stopped_early, _skipped, _few_steps, _long_validations)
# Claims that are not made beside these, which say why, and what to try instead.
OVERRULED = {
    "still falling": {_TOO_HIGH, "learning rate too low", "flat", "noisy validation"},
    "noisy validation": {_TOO_HIGH},
}
