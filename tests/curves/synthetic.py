"""Curves made to have one thing that a diagnosis should name, and healthy ones, each from a seed."""

from __future__ import annotations

import dataclasses
from collections.abc import Callable
from dataclasses import dataclass, field
from typing import Any

import numpy as np

from foldkit.runs import RunLog


@dataclass
class Made:
    """A training in the making: train and validation as functions of progress in [0, 1]."""

    train: Callable[[np.ndarray], np.ndarray]
    validation: Callable[[np.ndarray], np.ndarray]
    n_steps: int = 300
    n_checks: int = 10
    noise: float = 0.08
    check_noise: float = 0.004
    rows: int = 800
    check_rows: int = 150
    epochs: float = 3.0
    made: float = 1.0
    reason: str = "done"
    seed: int = 0
    spikes: tuple[float, ...] = ()
    rate: Callable[[np.ndarray], np.ndarray] | None = None
    moved: float = 0.0
    skipped: int = 0
    check_seconds: float = 1.0
    extra: list[dict[str, Any]] = field(default_factory=list)

    def log(self) -> RunLog:
        """Return the log, with noise of its seed on every figure."""
        rng = np.random.default_rng(self.seed)
        steps = np.arange(1, int(self.n_steps * self.made) + 1)
        losses = self.train(steps / self.n_steps) * np.exp(self.noise * rng.standard_normal(len(steps)))
        for at in self.spikes:
            losses[int(at * len(steps))] *= 4
        n_checks = max(1, int(self.n_checks * self.made))
        at = np.linspace(steps[-1] / n_checks, steps[-1], n_checks).astype(int)
        checks = self.validation(at / self.n_steps) * (1 + self.check_noise * rng.standard_normal(n_checks))
        begin = {"event": "started", "n_train": self.rows, "n_validation": self.check_rows, "n_steps": self.n_steps}
        taken = [
            {"event": "step", "step": int(s), "loss": float(v), "epoch": self.epochs * s / self.n_steps, "seconds": t}
            for s, v, t in zip(steps, losses, self.seconds_at(steps, at, before=True), strict=True)
        ]
        for step in taken if self.rate else ():
            step["learning_rate"] = float(self.rate(np.array(step["step"] / self.n_steps)))
        for step in taken if self.moved else ():
            step["update_ratio"] = self.moved / step["step"]
        checked = [
            {"event": "validation", "step": int(s), "validation_loss": float(v), "seconds": t}
            for s, v, t in zip(at, checks, self.seconds_at(at, at, before=False), strict=True)
        ]
        bad = [{"event": "skipped", "step": index + 1} for index in range(self.skipped)]
        return RunLog.of_events([begin, *taken, *checked, *bad])

    def seconds_at(self, steps: np.ndarray, checked: np.ndarray, *, before: bool) -> list[float]:
        """Return when each step is done, or the validation after it: a step takes 0.1 s."""
        n_checked = np.searchsorted(checked, steps, side="left" if before else "right")
        return [0.1 * float(step) + self.check_seconds * int(n) for step, n in zip(steps, n_checked, strict=True)]


def falling(start: float, end: float, pace: float = 5.0) -> Callable[[np.ndarray], np.ndarray]:
    """A fall from `start` that levels out at `end`, of such a pace."""
    return lambda t: end + (start - end) * (np.exp(-pace * t) - np.exp(-pace) * t)


def turning(start: float, low: float, at: float, rise: float) -> Callable[[np.ndarray], np.ndarray]:
    """A fall to `low` at the place `at`, then a rise by the share `rise` to the end."""
    down = falling(start, low, 5.0)
    return lambda t: np.where(t < at, down(np.minimum(t / at, 1)), low * (1 + rise * (t - at) / (1 - at)))


def planted() -> list[tuple[str, Made]]:
    """Curves of many kinds, each with the name of what it was made to show."""
    made: list[tuple[str, Made]] = []
    for i, (fall, last) in enumerate(((1.9, 0.9), (2.5, 0.5), (1.5, 0.4), (3.0, 1.0), (2.0, 0.7))):
        line = lambda t, a=fall, b=last: a + (b - a) * t  # noqa: E731
        made.append(("still falling", Made(line, lambda t, f=line: 1.05 * f(t), seed=i)))
    for i, (level, noise) in enumerate(((3.2, 0.05), (1.1, 0.1), (0.7, 0.15), (5.0, 0.02))):
        still = lambda t, a=level: a + 0 * t  # noqa: E731
        length = (60, 200, 500, 1000)[i]
        made.append(("flat", Made(still, still, noise=noise, n_steps=length, seed=i)))
        made.append(("learning rate too high", Made(still, still, noise=noise, n_steps=length, moved=0.9, seed=i)))
    for i, (at, rise) in enumerate(((0.3, 0.3), (0.5, 0.2), (0.4, 0.8), (0.6, 0.15), (0.25, 2.0))):
        made.append(("overfitting", Made(falling(3, 0.15), turning(3.1, 0.5, at, rise), n_steps=400, seed=i)))
    return [*made, *_planted_rates(), *_planted_rows_and_ends()]


def cosine(t: np.ndarray) -> np.ndarray:
    """A rate that falls to nothing in half a wave."""
    return (1 + np.cos(np.pi * t)) / 2


def _planted_rates() -> list[tuple[str, Made]]:
    made: list[tuple[str, Made]] = []
    for i, places in enumerate(((0.2, 0.5, 0.8), (0.1, 0.3, 0.4, 0.9), (0.5, 0.6, 0.7, 0.8, 0.9))):
        made.append(("learning rate too high", Made(falling(3, 0.5), falling(3, 0.6), spikes=places, seed=i)))
    for i, (at, rise) in enumerate(((0.2, 2.0), (0.4, 0.8))):
        up = turning(3.0, 1.0, at, rise)
        made.append(("learning rate too high", Made(up, up, n_steps=(100, 300, 800)[i], seed=i)))
    made.append(("learning rate too high", Made(falling(3, 0.5), falling(3, 0.6), skipped=4)))
    wild = {"check_noise": 0.1, "check_rows": 40}
    for i, (high, end) in enumerate(((2.0, 1.1), (8.0, 3.0))):
        bump = lambda t, h=high: (h - 1) * (30 * t - 0.1) * np.exp(1.1 - 30 * t)  # noqa: E731
        blown = lambda t, e=end, f=bump: 3 * (1 + (e - 1) * t + f(t))  # noqa: E731
        made.append(("learning rate too high", Made(blown, blown, noise=0.03, seed=i, **wild)))
    for i, (at, rise) in enumerate(((0.35, 2.5), (0.5, 2.0))):
        hump = lambda t, a=at, r=rise: falling(3, 0.5)(t) * (1 + r * np.exp(-((t - a) ** 2) / 0.01))  # noqa: E731
        made.append(("learning rate too high", Made(hump, hump, seed=i, **wild)))
    for i, share in enumerate((0.1, 0.15, 0.2, 0.3)):
        slow = lambda t, s=share: 3.0 * (1 - s * t)  # noqa: E731
        made.append(("learning rate too low", Made(slow, slow, noise=0.03, moved=0.05, seed=i)))
        made.append(("learning rate too high", Made(slow, slow, noise=0.03, moved=0.5, seed=i)))
        spent = lambda t, s=share: 3.0 * (1 - s * (t + np.sin(np.pi * t) / np.pi))  # noqa: E731
        made.append(("learning rate too low", Made(spent, spent, noise=0.03, rate=cosine, seed=i)))
    return made


def _planted_rows_and_ends() -> list[tuple[str, Made]]:
    made: list[tuple[str, Made]] = []
    for i, (rows, epochs) in enumerate(((40, 30), (25, 50), (60, 12), (100, 20))):
        few = Made(falling(3, 0.1), turning(3.1, 0.6, 0.3, 0.5), rows=rows, epochs=epochs, seed=i)
        made.append(("too few rows for the steps", few))
    for i, (end, check) in enumerate(((0.004, 0.4), (0.02, 0.3), (0.01, 1.2), (0.03, 0.2))):
        made.append(("memorised", Made(falling(3, end, 9), falling(3, check, 9), seed=i, noise=0.2)))
    for i, (rows, noise) in enumerate(((8, 0.12), (15, 0.2), (30, 0.08), (5, 0.3))):
        wild = Made(falling(3, 0.5), falling(3, 0.6), check_rows=rows, check_noise=noise, n_checks=14, seed=i)
        made.append(("noisy validation", wild))
    made.append(("long validations", Made(falling(3, 0.4), falling(3, 0.5), check_seconds=4.0)))
    for i, (share, reason) in enumerate(((0.3, "stopped"), (0.5, "out of time"), (0.6, "killed"), (0.8, "failed"))):
        made.append(("stopped early", Made(falling(3, 0.4), falling(3, 0.5), made=share, reason=reason, seed=i)))
    return made


def healthy() -> list[Made]:
    """Curves that show nothing to speak of: of many lengths, levels, paces and scatters; low ones with hard batches."""
    rng = np.random.default_rng(7)
    made = []
    for seed in range(60):
        start, floor = float(rng.uniform(1.0, 6.0)), float(rng.uniform(0.08, 0.45))
        end = start * floor
        pace, n_checks = float(rng.uniform(4.5, 12)), int(rng.integers(4, 20))
        made.append(
            Made(
                falling(start, end, pace),
                falling(start * 1.03, end * float(rng.uniform(1.02, 1.4)), pace),
                n_steps=int(rng.integers(60, 3000) if seed < 40 else rng.integers(25, 90)),
                n_checks=n_checks,
                noise=float(rng.uniform(0.01, 0.25) if seed < 40 else rng.uniform(0.1, 0.4)),
                check_noise=float(rng.uniform(0.0, 0.01)),
                rows=int(rng.integers(200, 5000)),
                check_rows=int(rng.integers(30, 500)),
                epochs=float(rng.uniform(1, 7)),
                reason=("done", "no better")[seed % 2],
                seed=seed,
            )
        )
    near_zero = Made(lambda t: 8 * np.exp(-9 * t) + 0.002, lambda t: 8.1 * np.exp(-9 * t) + 0.002)
    few_rows = Made(falling(3, 0.06, 9), falling(3, 0.08, 9))
    return [*made, *(dataclasses.replace(one, spikes=(0.7, 0.75, 0.8, 0.9)) for one in (near_zero, few_rows))]
