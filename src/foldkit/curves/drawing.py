"""A picture of train and validation loss, from the run log alone."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING, Any

from foldkit.formats import InputError
from foldkit.runs import RunLog

from .smoothing import smooth

if TYPE_CHECKING:
    from matplotlib.axes import Axes

# Okabe and Ito 2008: told apart by colour-blind readers; the shapes differ too, for grey paper.
TRAIN, VALIDATION = "#0072B2", "#D55E00"


def draw(log: RunLog, title: str, ax: Axes | None = None) -> Axes:
    """Draw the losses on `ax`, or on a new figure of 1280 x 800 points, and return the axes.

    Raises InputError when the log has no step yet.
    """
    steps, losses = log.series("step", "loss")
    if not steps:
        raise InputError(title, "log", "at least one step", "none", "wait for the first step")
    ax = ax or new_axes()
    smoothed = smooth(losses)
    ax.plot(steps, losses, color=TRAIN, alpha=0.25, linewidth=1, label="train, each step")
    ax.plot(steps, smoothed, color=TRAIN, linewidth=2.2, label="train, smoothed")
    check_steps, checks = log.series("validation", "validation_loss")
    if checks:
        ax.plot(check_steps, checks, "o--", color=VALIDATION, linewidth=1.4, markersize=6, label="validation")
        best = min(range(len(checks)), key=checks.__getitem__)
        _mark_best(ax, check_steps[best], checks[best])
    ax.set(title=title, xlabel="optimiser step", ylabel=_loss_label(log), yscale="log")
    plain_ticks(ax, [*smoothed, *checks])
    ax.set_xlim(0, max(steps) * 1.03)
    ax.grid(visible=True, which="major", color="#dddddd", linewidth=0.8)
    ax.spines[["top", "right"]].set_visible(False)
    ax.legend(frameon=False)
    return ax


def save_picture(log: RunLog, title: str, path: Path) -> None:
    """Draw the losses, and below them margin and ranking of pairs where there are any, into a picture file.

    The ending of its name says of which kind.
    """
    if not log.series("step", "ranked")[0]:
        ax = draw(log, title)
    else:
        from matplotlib.figure import Figure

        ax, below = Figure(figsize=(12.8, 8), dpi=100, layout="constrained").subplots(2, height_ratios=[3, 2])
        draw(log, title, ax)
        draw_pairs(log, below)
    figure: Any = ax.figure
    figure.savefig(path)


def draw_pairs(log: RunLog, ax: Axes) -> Axes:
    """Draw the margin of pairs, on the left, and the share ranked right, on the right, of train and of validation."""
    share = ax.twinx()
    for figure, at, color, mark in (("margin", ax, TRAIN, "s"), ("ranked", share, VALIDATION, "o")):
        steps, values = log.series("step", figure)
        at.plot(steps, smooth(values), color=color, linewidth=1.6, alpha=0.7)
        checks, found = log.series("validation", figure)
        at.plot(checks, found, mark, linestyle="--", color=color, markersize=6, linewidth=1.2)
    ax.set_xlabel("optimiser step")
    ax.set_ylabel("margin of pairs (squares)", color=TRAIN)
    share.set_ylabel("share ranked right (circles)", color=VALIDATION)
    share.set_ylim(0, 1.05)
    ax.set_xlim(0, max(log.series("step", "ranked")[0]) * 1.03)
    ax.grid(visible=True, which="major", color="#dddddd", linewidth=0.8)
    ax.set_title("train smoothed as lines, validation as marks", fontsize=10)
    for axes in (ax, share):
        axes.spines["top"].set_visible(False)
    return ax


def _loss_label(log: RunLog) -> str:
    pairs = log.series("step", "ranked")[0]
    return "loss of the objective, a pair" if pairs else "loss per learned token (nats)"


def new_axes() -> Axes:
    """Return the axes of a new figure of 1280 x 800 points."""
    from matplotlib.figure import Figure

    return Figure(figsize=(12.8, 8), dpi=100, layout="constrained").subplots()


def _mark_best(ax: Axes, step: int, loss: float) -> None:
    ax.plot([step], [loss], "o", color=VALIDATION, markersize=13, fillstyle="none", markeredgewidth=1.8)
    ax.annotate(
        f"best {loss:.4f} at step {step}",
        (step, loss),
        xytext=(-12, 26),
        textcoords="offset points",
        ha="right",
        color=VALIDATION,
        bbox={"facecolor": "white", "edgecolor": "none", "pad": 2},
        arrowprops={"arrowstyle": "-", "color": VALIDATION},
    )


def plain_ticks(ax: Axes, values: list[float]) -> None:
    """Label a logarithmic axis of values with plain numbers: 1, 2 and 5 times powers of ten."""
    from matplotlib.ticker import FixedLocator, FuncFormatter, NullLocator

    marks = [base * 10.0**power for power in range(-6, 3) for base in (1, 2, 5)]
    low, high = min(values), max(values)
    ax.set_ylim(low * 0.7, high * 1.4)
    ax.yaxis.set_major_locator(FixedLocator([mark for mark in marks if low * 0.7 <= mark <= high * 1.4]))
    ax.yaxis.set_major_formatter(FuncFormatter(lambda value, _: f"{value:g}"))
    ax.yaxis.set_minor_locator(NullLocator())
