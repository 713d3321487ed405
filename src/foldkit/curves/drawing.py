"""Pictures of runs: losses, below them learning rate and gradient norm, and margin and ranking of pairs."""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path
from typing import TYPE_CHECKING

from foldkit.formats import one_of
from foldkit.formats.pictures import write_picture
from foldkit.runs import RunFolder

from .curve import ACROSS, Curve, read_curves, smoothed_points, thinned

if TYPE_CHECKING:
    from matplotlib.axes import Axes
    from matplotlib.figure import Figure

Runs = Sequence[RunFolder | Path | str] | RunFolder | Path | str

# Okabe and Ito 2008: told apart by colour-blind readers; the shapes differ too, for grey paper.
TRAIN, VALIDATION = "#0072B2", "#D55E00"
COLORS = (TRAIN, VALIDATION, "#009E73", "#CC79A7", "#E69F00", "#56B4E9", "#000000")
_MARKS = "os^DvPX*"
_GRID = "#dddddd"
PICTURES = (".png", ".svg", ".pdf")
# What is labelled of a power of ten, from few to many.
_CLOSE = (*(n / 10 for n in range(10, 20)), *(n / 5 for n in range(10, 25)), *(n / 2 for n in range(10, 20)))
_TICKS = ((1,), (1, 2, 5), (1, 1.5, 2, 3, 4, 5, 6, 8), _CLOSE)


def draw(runs: Runs, ax: Axes | None = None, *, across: str = "steps", log: bool = True) -> Axes:
    """Draw the losses of one or several runs on `ax`, or on a new figure, and return the axes.

    `across` is "steps", "tokens", "epochs" or "minutes"; with `log` the losses stand on a logarithmic axis. Raises
    InputError for a run whose log has no step yet.
    """
    curves = read_curves(runs, across)
    ax = ax or new_axes()
    draw_losses(curves, ax, log=log)
    ax.set_xlabel(ACROSS[across])
    return ax


def draw_figure(
    runs: Runs, *, across: str = "steps", log: bool = True, size: tuple[float, float] = (12.8, 8.0)
) -> Figure:
    """Return a figure (inches, 100 points each) of the losses, rate and norm below, and pairs where there are any."""
    from matplotlib.figure import Figure

    curves = read_curves(runs, across)
    pairs = len(curves) == 1 and bool(curves[0].pairs)
    figure = Figure(figsize=size, dpi=100, layout="constrained")
    heights = [5, 2, 1.2, 1.2] if pairs else [5, 1.3, 1.3]
    panels = list(figure.subplots(len(heights), height_ratios=heights, sharex=True))
    draw_losses(curves, panels[0], log=log)
    if pairs:
        draw_pairs(curves[0], panels[1])
    _draw_below(curves, panels[-2], panels[-1])
    panels[-1].set_xlabel(ACROSS[across])
    return figure


def save_picture(runs: Runs, path: str | Path, *, across: str = "steps", log: bool = True) -> None:
    """Draw runs into a picture file of 1280 x 800 points, of the kind that its ending says: .png, .svg or .pdf."""
    check_picture(path)
    write_picture(Path(path), draw_figure(runs, across=across, log=log))


def check_picture(path: str | Path) -> None:
    """Raise UsageError for a file whose ending is none of those of `PICTURES`."""
    one_of(Path(path).suffix.lower(), PICTURES, path, "ending")


def as_written(text: str) -> str:
    """Return a label that is drawn as it is written: between two dollars it would be taken for mathematics."""
    return text.replace("$", r"\$")


def draw_losses(curves: Sequence[Curve], ax: Axes, *, log: bool = True) -> None:
    """Draw train, raw and smoothed, and validation with its best marked; several runs in a colour and shape each."""
    alone = len(curves) == 1
    for index, curve in enumerate(curves):
        color, mark = COLORS[index % len(COLORS)], _MARKS[index % len(_MARKS)]
        check_color = VALIDATION if alone else color
        of_run = "" if alone else f"{as_written(curve.label)}, "
        if alone:
            ax.plot(*thinned(curve.train), color=color, alpha=0.25, linewidth=1, label="train, each step")
        train_label = "train, smoothed" if alone else f"{of_run}train"
        ax.plot(*thinned(curve.smoothed), color=color, linewidth=2.2 if alone else 1.3)
        ax.lines[-1].set_label(train_label)
        if curve.best is not None:
            ax.plot(*curve.checks, f"{mark}--", color=check_color, linewidth=1.4, markersize=6)
            ax.lines[-1].set_label("validation" if alone else f"{of_run}validation")
            _mark_best(curve, ax, check_color, said=alone)
    curve = curves[0]
    if alone and len(curve.epochs) <= 25:
        for number, place in enumerate(curve.epochs, 1):
            ax.axvline(place, color="#999999", linewidth=0.8, linestyle=":", label="end of an epoch" * (number == 1))
    said = ": ".join(word for word in (curve.name, curve.base) if word) if alone else ""
    ax.set(title=as_written(said) or f"{len(curves)} runs", ylabel=_loss_label(curves))
    drawn = [thinned(one.smoothed)[1] for one in curves] + [one.checks[1] for one in curves]
    shown = [float(value) for values in drawn for value in values]
    if log and min(shown) > 0:
        ax.set_yscale("log")
        plain_ticks(ax, shown)
    else:
        ax.set_ylim(0, max(shown) * 1.08)
    ax.set_xlim(0, max(one.train[0][-1] for one in curves) * 1.03)
    ax.grid(visible=True, which="major", color=_GRID, linewidth=0.8)
    ax.spines[["top", "right"]].set_visible(False)
    # A place that was not asked for warns where the machine takes a second to find it.
    ax.legend(loc="best", frameon=False, fontsize=10 if len(curves) < 4 else 8)


def draw_pairs(curve: Curve, ax: Axes) -> None:
    """Draw the margin of pairs, on the left, and the share ranked right, on the right, of train and of validation."""
    share = ax.twinx()
    for figure, at, color, mark in (("margin", ax, TRAIN, "s"), ("ranked", share, VALIDATION, "o")):
        points, checks = curve.pairs[figure]
        at.plot(*thinned(smoothed_points(points)), color=color, linewidth=1.6, alpha=0.7)
        at.plot(*checks, mark, linestyle="--", color=color, markersize=6, linewidth=1.2)
    ax.set_ylabel("margin of pairs\n(squares)", color=TRAIN)
    share.set_ylabel("share ranked right\n(circles)", color=VALIDATION)
    share.set_ylim(0, 1.05)
    ax.grid(visible=True, which="major", color=_GRID, linewidth=0.8)
    for axes in (ax, share):
        axes.spines["top"].set_visible(False)


def _draw_below(curves: Sequence[Curve], rates: Axes, norms: Axes) -> None:
    """Draw the learning rate, and the gradient norm, smoothed over its raw values."""
    alone = len(curves) == 1
    for index, curve in enumerate(curves):
        color = COLORS[index % len(COLORS)]
        rates.plot(*thinned(curve.rates), color=color, linewidth=1.4)
        if alone:
            norms.plot(*thinned(curve.norms), color=color, alpha=0.25, linewidth=0.8)
        norms.plot(*thinned(curve.smoothed_norms), color=color, linewidth=1.4)
    rates.set_ylabel("learning rate")
    rates.ticklabel_format(axis="y", style="sci", scilimits=(0, 0))
    norms.set_ylabel("gradient norm")
    if any((curve.norms[1] > 0).any() for curve in curves):
        norms.set_yscale("log")
        plain_ticks(norms, [value for one in curves for value in thinned(one.norms)[1].tolist()], few=True)
    for panel in (rates, norms):
        panel.grid(visible=True, which="major", color=_GRID, linewidth=0.8)
        panel.spines[["top", "right"]].set_visible(False)


def _loss_label(curves: Sequence[Curve]) -> str:
    if any(curve.pairs for curve in curves):
        return "loss of the objective, a pair"
    return "loss per learned token (nats)"


def new_axes() -> Axes:
    """Return the axes of a new figure of 1280 x 800 points."""
    from matplotlib.figure import Figure

    return Figure(figsize=(12.8, 8), dpi=100, layout="constrained").subplots()


def _mark_best(curve: Curve, ax: Axes, color: str, *, said: bool) -> None:
    assert curve.best is not None
    place, loss = (values[curve.best] for values in curve.checks)
    ax.plot([place], [loss], "o", color=color, markersize=13, fillstyle="none", markeredgewidth=1.8)
    if said:
        ax.annotate(
            f"best {loss:.4f} at step {curve.check_steps[curve.best]}",
            (place, loss),
            xytext=(-12, 26),
            textcoords="offset points",
            ha="right",
            color=color,
            bbox={"facecolor": "white", "edgecolor": "none", "pad": 2},
            arrowprops={"arrowstyle": "-", "color": color},
        )


def plain_ticks(ax: Axes, values: Sequence[float], *, few: bool = False) -> None:
    """Label a logarithmic axis of values with plain numbers, close enough to read by: at least four, with `few` two.

    Above and below the values is the more room the further they go, and never so much that a small change lies flat.
    """
    from matplotlib.ticker import FixedLocator, FuncFormatter, NullLocator

    shown = [value for value in values if value > 0]  # others have no place on such an axis
    if not shown:
        return
    room = min(1.4, max(1.15, (max(shown) / min(shown)) ** 0.2))
    low, high = min(shown) / room, max(shown) * room
    for bases in _TICKS:
        marks = [mark for power in range(-6, 5) for base in bases if low <= (mark := base * 10.0**power) <= high]
        if len(marks) >= (2 if few else 4):
            break
    ax.set_ylim(low, high)
    ax.yaxis.set_major_locator(FixedLocator(marks))
    ax.yaxis.set_major_formatter(FuncFormatter(lambda value, _: f"{value:g}"))
    ax.yaxis.set_minor_locator(NullLocator())
