"""Draw loss and probes of a pretraining from its log: `python tools/draw_pretraining.py FOLDER`."""

from __future__ import annotations

import sys
from pathlib import Path

from matplotlib.figure import Figure
from matplotlib.ticker import FixedLocator, NullLocator, ScalarFormatter

from foldkit.formats import read_jsonl

# Name of the curve, beginning of its probes' names, colour (Okabe and Ito 2008), line.
GROUPS = (
    ("one fact, mean of seven fields", "fact ", "#0072B2", "-"),
    ("whole note, mean of eight fields", "note ", "#D55E00", "-"),
    ("copy a random string", "copy", "#009E73", "--"),
    ("key to value", "key", "#CC79A7", "--"),
    ("pairs said again", "pairs", "#56B4E9", "-."),
    ("compare two numbers", "compare", "#E69F00", ":"),
    ("style of short notes", "short forms", "#000000", "-."),
    ("style of headed notes, all fields", "forms", "#000000", ":"),
)


def draw(folder: Path) -> Path:
    """Write `pretraining.png` beside the log and return its path."""
    events = read_jsonl(folder / "pretraining.jsonl")
    minutes = [event["seconds"] / 60 for event in events]
    figure = Figure(figsize=(12.8, 8), dpi=80, layout="constrained")
    above, below = figure.subplots(2, 1, sharex=True, height_ratios=(1, 2))
    above.plot(minutes, [event["loss"] for event in events], color="#0072B2")
    above.set(ylabel="weighted loss (nats)", yscale="log", title="Training of the base: loss, and probes every minute")
    for name, start, colour, line in GROUPS:
        points = []
        for minute, event in zip(minutes, events, strict=True):
            shares = [share for probe, share in event["probes"].items() if probe.startswith(start)]
            if shares:
                points.append((minute, sum(shares) / len(shares)))
        if points:
            below.plot(*zip(*points, strict=True), line, color=colour, label=name)
    above.yaxis.set_major_locator(FixedLocator([0.5, 1, 2, 4]))
    above.yaxis.set_minor_locator(NullLocator())
    above.yaxis.set_major_formatter(ScalarFormatter())
    below.set(xlabel="minutes of training", ylabel="share of greedy answers right", ylim=(-0.02, 1.02))
    below.legend(loc="upper left", bbox_to_anchor=(1, 1), frameon=False)
    for ax in (above, below):
        ax.grid(visible=True, color="#dddddd", linewidth=0.8)
        ax.spines[["top", "right"]].set_visible(False)
    path = folder / "pretraining.png"
    figure.savefig(path)
    return path


if __name__ == "__main__":
    print(draw(Path(sys.argv[1])))
