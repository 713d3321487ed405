"""A picture of the loss against a growing learning rate."""

from __future__ import annotations

import math
from collections.abc import Sequence
from pathlib import Path
from typing import TYPE_CHECKING, Any

from foldkit.formats.pictures import write_picture

from .drawing import TRAIN, VALIDATION, as_written, new_axes, plain_ticks

if TYPE_CHECKING:
    from matplotlib.axes import Axes


def draw_rates(
    tried: Sequence[tuple[float, float, float]], suggested: float | None, title: str, ax: Axes | None = None
) -> Axes:
    """Draw learning rate, loss and smoothed loss of each step, with the suggested rate, on `ax` or a new figure."""
    ax = ax or new_axes()
    rates, losses, smoothed = zip(*(one for one in tried if math.isfinite(one[2])), strict=True)
    ax.plot(rates, losses, color=TRAIN, alpha=0.25, linewidth=1, label="each step")
    ax.plot(rates, smoothed, color=TRAIN, linewidth=2.2, label="smoothed")
    if suggested:
        ax.axvline(suggested, color=VALIDATION, linestyle="--", linewidth=2, label=f"suggested: {suggested:.1e}")
    ax.set(
        title=as_written(title),
        xlabel="learning rate",
        ylabel="loss per learned token (nats)",
        xscale="log",
        yscale="log",
    )
    plain_ticks(ax, [*losses, *smoothed])
    ax.grid(visible=True, which="major", color="#dddddd", linewidth=0.8)
    ax.spines[["top", "right"]].set_visible(False)
    ax.legend(loc="best", frameon=False)
    return ax


def save_rates(tried: Sequence[tuple[float, float, float]], suggested: float | None, title: str, path: Path) -> None:
    """Draw the rates into a picture file; the ending of its name says of which kind."""
    figure: Any = draw_rates(tried, suggested, title).figure
    write_picture(path, figure)
