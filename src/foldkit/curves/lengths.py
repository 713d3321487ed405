"""A picture of how long the examples are, with the window."""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path
from typing import TYPE_CHECKING, Any

from foldkit.formats import InputError
from foldkit.formats.pictures import write_picture

from .drawing import TRAIN, VALIDATION, as_written, check_picture, new_axes

if TYPE_CHECKING:
    from matplotlib.axes import Axes


def draw_lengths(
    wholes: Sequence[int], prompts: Sequence[int], window: int, title: str, ax: Axes | None = None
) -> Axes:
    """Draw the lengths in tokens of examples, and of their prompts alone, on `ax` or a new figure of 1280 x 800 points.

    Raises InputError when there is no example.
    """
    if not wholes:
        raise InputError(title, "examples", "at least one that can be used", "none", "see foldkit look --template")
    ax = ax or new_axes()
    far = max(1, *wholes)
    # Past twice the longest example the window would only press the bars together: it is named at the edge.
    near = window <= 2 * far
    right = max(far, window) * 1.05 if near else far * 1.05
    step = -(-int(right) // 60)
    bins = [edge - 0.5 for edge in range(0, int(right) + 2 * step, step)]
    ax.hist(wholes, bins, color=TRAIN, alpha=0.85, label="whole example")
    ax.hist(prompts, bins, histtype="step", color="black", linewidth=1.6, label="prompt alone")
    over = sum(length > window for length in wholes)
    said = f"window {window}: {over} of {len(wholes)} over it"
    if near:
        ax.axvline(window, color=VALIDATION, linestyle="--", linewidth=2, label=said)
    else:
        ax.plot([], [], "--", color=VALIDATION, linewidth=2, label=f"{said}, far to the right")
    ax.set(title=as_written(title), xlabel="tokens", ylabel="examples", xlim=(0, right * 1.01))
    ax.grid(visible=True, axis="y", color="#dddddd", linewidth=0.8)
    ax.set_axisbelow(True)
    ax.spines[["top", "right"]].set_visible(False)
    ax.legend(loc="best", frameon=False)
    return ax


def save_lengths(wholes: Sequence[int], prompts: Sequence[int], window: int, title: str, path: Path) -> None:
    """Draw the lengths into a picture file, of the kind that its ending says: .png, .svg or .pdf."""
    check_picture(path)
    figure: Any = draw_lengths(wholes, prompts, window, title).figure
    write_picture(path, figure)
