"""The figures of one run as they are drawn: train, validation, rate and norm against what stands across."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from pathlib import Path

import numpy as np

from foldkit.formats import InputError, one_of
from foldkit.runs import RunFolder, RunLog, differing, read_log, read_run_sheet, run_at, shown_setting

from .smoothing import smooth

# What may stand across, and the words for it.
ACROSS = {
    "steps": "optimiser step",
    "tokens": "tokens gone through",
    "epochs": "epochs",
    "minutes": "minutes of training",
}
_FIGURES = {"steps": "step", "tokens": "n_tokens", "epochs": "epoch", "minutes": "seconds"}
READ = ("epoch", "loss", "gradient_norm", "learning_rate", "margin", "ranked")

Points = tuple[np.ndarray, np.ndarray]


@dataclass(frozen=True)
class Curve:
    """One run: points are pairs of arrays (across, figure); `best` is the place of the lowest validation, or None.

    `epochs` are the places where an epoch ended.
    """

    name: str
    label: str
    base: str
    train: Points
    smoothed: Points
    checks: Points
    check_steps: np.ndarray
    rates: Points
    norms: Points
    smoothed_norms: Points
    epochs: np.ndarray
    pairs: dict[str, tuple[Points, Points]]

    @property
    def best(self) -> int | None:
        """The place of the lowest validation loss among the checks."""
        return int(np.argmin(self.checks[1])) if len(self.checks[1]) else None


def read_curves(runs: Sequence[RunFolder | Path | str] | RunFolder | Path | str, across: str = "steps") -> list[Curve]:
    """Return the curves of runs, given as folders; where there are several, labels say what differs in their sheets.

    Raises InputError for a run whose log has no step yet, UsageError for an unknown `across`.
    """
    one_of(across, ACROSS, "curves", "across")
    several = [runs] if isinstance(runs, RunFolder | Path | str) else list(runs)
    folders = list(map(run_at, several))
    labels = run_labels(folders)
    return [
        curve_of(read_log(run.log, (*READ, _FIGURES[across])), run.path.name, label, _base(run), across)
        for run, label in zip(folders, labels, strict=True)
    ]


def run_labels(runs: Sequence[RunFolder]) -> list[str]:
    """Return the name of each run with what its sheet has that others have not."""
    sheets = [read_run_sheet(run) if run.sheet.exists() else {} for run in runs]
    found = differing(sheets)
    short = [key.rpartition(".")[2] for key in found]
    names = [last if short.count(last) == 1 else key for key, last in zip(found, short, strict=True)]
    labels = []
    for index, run in enumerate(runs):
        own = [f"{name} {shown_setting(values[index])}" for name, values in zip(names, found.values(), strict=True)]
        labels.append(f"{run.path.name}: {', '.join(own)}" if own else run.path.name)
    return labels


def curve_of(log: RunLog, name: str, label: str = "", base: str = "", across: str = "steps") -> Curve:
    """Return the curve of a log. Raises InputError when it has no step yet."""
    steps, losses = log.arrays("step", "step", "loss")
    if not len(steps):
        raise InputError(name, "log", "at least one step", None, "wait for the first step")
    figure = _FIGURES[across]
    scale = 60.0 if across == "minutes" else 1.0
    place, at = log.arrays("step", "step", figure)

    def over(where: np.ndarray) -> np.ndarray:
        return where if across == "steps" or not len(place) else np.interp(where, place, at) / scale

    def points(event: str, wanted: str) -> Points:
        where, values = log.arrays(event, "step", wanted)
        return over(where), values

    epoch_steps, epochs = log.arrays("step", "step", "epoch")
    ends = np.arange(1, np.floor(epochs[-1] + 1e-9) + 1) if len(epochs) else np.zeros(0)
    return Curve(
        name,
        label or name,
        base,
        (over(steps), losses),
        smoothed_points((over(steps), losses)),
        points("validation", "validation_loss"),
        log.arrays("validation", "step", "validation_loss")[0],
        points("step", "learning_rate"),
        points("step", "gradient_norm"),
        smoothed_points(points("step", "gradient_norm")),
        over(np.interp(ends, epochs, epoch_steps)) if len(ends) else ends,
        {name: (points("step", name), points("validation", name)) for name in ("margin", "ranked")}
        if log.series("step", "ranked")[0]
        else {},
    )


def thinned(points: Points, most: int = 1500) -> Points:
    """Return the lowest and the highest of each piece of many points, in order: drawn, they look like all of them."""
    x, y = points
    if len(x) <= 2 * most:
        return points
    size = -(-len(x) // most)
    n = len(x) // size * size
    pieces, begins = y[:n].reshape(-1, size), np.arange(0, n, size)
    low, high = begins + pieces.argmin(1), begins + pieces.argmax(1)
    picked = np.concatenate([np.sort(np.stack([low, high], 1), 1).ravel(), [len(x) - 1]])
    return x[picked], y[picked]


def smoothed_points(points: Points, most: int = 20000) -> Points:
    """Return the points smoothed; of very many, the means of equal pieces, which the average reaches over anyway."""
    x, y = points
    size = -(-len(x) // most)
    if size > 1:
        n = len(x) // size * size
        x, y = x[size - 1 : n : size], y[:n].reshape(-1, size).mean(1)
    return x, np.array(smooth(y.tolist()))


def _base(run: RunFolder) -> str:
    return str(read_run_sheet(run).get("base", {}).get("model", "")) if run.sheet.exists() else ""
