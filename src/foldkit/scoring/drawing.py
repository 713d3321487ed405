"""A picture of a scorecard: each measure's figures with their intervals, contenders below one another, then floors."""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path
from typing import TYPE_CHECKING, NamedTuple

from foldkit.formats.pictures import write_picture

from .card import Scorecard
from .intervals import Interval
from .words import floor_name, telling_floors

if TYPE_CHECKING:
    from matplotlib.axes import Axes
    from matplotlib.figure import Figure

# Okabe and Ito 2008, with a shape each for grey paper; what is reached without a model is grey.
_COLORS = ("#0072B2", "#D55E00", "#009E73", "#CC79A7", "#E69F00", "#56B4E9", "#000000")
_MARKS = "os^DvPX"
_FLOOR = ("#707070", "|")


class _Line(NamedTuple):
    """What is drawn at one height of every panel: a contender, or a floor."""

    name: str
    figures: dict[str, Interval]
    color: str
    mark: str


def draw_scorecard(card: Scorecard) -> Figure:
    """Return a figure of 1280 x 800 points, higher where that is too little: a panel for each measure."""
    from matplotlib.figure import Figure

    names = list(dict.fromkeys(name for score in card.contenders for name in score.measures))
    n_columns = 1 if len(names) < 3 else 2 if len(names) < 9 else 3
    n_lines = -(-len(names) // n_columns)
    lines, better = _lines(card), card.signed.get("higher_is_better", {})
    height = 0.4 + n_lines * (0.7 + 0.2 * len(lines))
    figure = Figure(figsize=(12.8, max(8, height)), dpi=100, layout="constrained")
    panels = figure.subplots(n_lines, n_columns, squeeze=False).ravel().tolist()
    for panel, name in zip(panels, names, strict=False):
        _draw_panel(panel, name, lines)
        panel.set_title(f"{name}, {'more' if better.get(name, True) else 'less'} is better", fontsize=11, loc="left")
    for panel in panels[len(names) :]:
        panel.set_visible(False)
    figure.suptitle(f"{card.n_rows} test rows, 95% intervals", fontsize=12)
    return figure


def _lines(card: Scorecard) -> list[_Line]:
    contenders = [
        _Line(score.name, score.measures, _COLORS[place % len(_COLORS)], _MARKS[place % len(_MARKS)])
        for place, score in enumerate(card.contenders)
    ]
    return contenders + [_Line(floor_name(floor), floor.measures, *_FLOOR) for floor in telling_floors(card)]


def _draw_panel(panel: Axes, measure: str, lines: Sequence[_Line]) -> None:
    for place, line in enumerate(lines):
        if measure not in line.figures:
            continue
        one = line.figures[measure]
        panel.plot([one.low, one.high], [place, place], color=line.color, linewidth=3, alpha=0.5, solid_capstyle="butt")
        panel.plot([one.value], [place], line.mark, color=line.color, markersize=8, markeredgewidth=1.5, clip_on=False)
        panel.text(1.01, place, f"{one.value:.3f}", va="center", transform=panel.get_yaxis_transform())
    labels = [line.name.replace("$", r"\$") for line in lines]  # two would be taken for mathematics
    panel.set_yticks(range(len(labels)), labels)
    panel.set_ylim(len(labels) - 0.5, -0.5)
    panel.update_datalim([(0, 0)])
    panel.autoscale_view(scaley=False)
    panel.grid(visible=True, axis="x", color="#dddddd", linewidth=0.8)
    panel.set_axisbelow(True)
    panel.spines[["top", "right"]].set_visible(False)


def save_scorecard(card: Scorecard, path: Path) -> None:
    """Draw a scorecard into a picture file; the ending of its name says of which kind."""
    write_picture(path, draw_scorecard(card))
