"""One run as a terminal shows it: state, losses drawn in characters, figures, what happened, what it shows."""

from __future__ import annotations

import math
from collections.abc import Mapping
from dataclasses import dataclass
from typing import TYPE_CHECKING, Any

if TYPE_CHECKING:
    import numpy as np

    from foldkit.curves import Curve
    from foldkit.runs import RunLog, RunSummary

# Faint, strong, and of another hue and shape: 256-colour numbers.
_RAW, _SMOOTHED, _VALIDATION = 24, 39, 208


@dataclass(frozen=True)
class View:
    """What is known of a run at one moment."""

    summary: RunSummary
    log: RunLog

    @property
    def last(self) -> Mapping[str, Any]:
        """The figures of the last step."""
        return self.log.last("step")

    def text(self, width: int, height: int, *, colored: bool) -> str:
        """Return the view in so many columns and lines at most."""
        below = [*self._figures(), "", *self._events(4), *self._diagnosis()]
        below = [line for piece in below for line in _wrapped(piece, width)]
        room = height - len(below) - 6
        drawn = self._plot(width, room, colored=colored) if room >= 6 else []
        return "\n".join([*_wrapped(self.headline(), width), "", *drawn, *below])

    def headline(self) -> str:
        """Name, state, base, progress and time to go in a line."""
        from foldkit.runs import clock

        run, last = self.summary, self.last
        share = f" ({run.step / run.n_steps:.0%})" if run.n_steps else ""
        parts = [run.name, run.outcome, run.base, f"{run.n_train} rows", f"step {run.step} of {run.n_steps}{share}"]
        if run.state == "training" and "to_go" in last:
            parts.append(f"{clock(last['to_go'])} to go")
        elif run.seconds:
            parts.append(clock(run.seconds))
        return "  ·  ".join(parts)

    def line(self) -> str:
        """The state in one plain line, for where there is no terminal."""
        from foldkit.runs import clock

        run, last = self.summary, self.last
        loss = f"  train loss {last['loss']:.4f}" if last else ""
        best = f"  best validation {run.best_validation_loss:.4f} at step {run.best_step}" if run.best_step else ""
        to_go = f"  {clock(last['to_go'])} to go" if run.state == "training" and "to_go" in last else ""
        return f"{run.name}  {run.outcome}  step {run.step} of {run.n_steps}{loss}{best}{to_go}"

    def _plot(self, width: int, height: int, *, colored: bool) -> list[str]:
        from foldkit.curves import curve_of
        from foldkit.formats import InputError

        try:
            curve = curve_of(self.log, self.summary.name)
        except InputError:
            return ["(no step yet)"]
        return [*_drawn(curve, self.summary.n_steps, width, height, colored=colored), ""]

    def _figures(self) -> list[str]:
        from foldkit.curves import smooth

        last, run = self.last, self.summary
        if not last:
            return []
        first = [f"train loss {last['loss']:.4f}", f"smoothed {smooth(self.log.series('step', 'loss')[1])[-1]:.4f}"]
        if run.best_step:
            first.append(f"best validation {run.best_validation_loss:.4f} at step {run.best_step}")
        second = [
            f"epoch {last['epoch']:.2f}",
            f"learning rate {last['learning_rate']:.2e}",
            f"gradient norm {last['gradient_norm']:.3g}",
            f"{last['tokens_per_second']:,.0f} tokens/s",
            f"{last['peak_bytes'] / 1e6:,.0f} MB at most",
        ]
        return ["   ".join(first), "   ".join(second)]

    def _events(self, most: int) -> list[str]:
        told = [line for event in self.log.others() for line in [_told(event)] if line]
        return told[-most:]

    def _diagnosis(self) -> list[str]:
        from foldkit.curves import diagnose

        return [f"! {said}" for said in diagnose(self.log, self.summary.ended)]


def _told(event: Mapping[str, Any]) -> str:
    """Return an event that is no step as a line, "" for one that tells nothing."""
    best = "  best so far" if event.get("best") else ""
    told = {
        "validation": f"validation loss {event.get('validation_loss', math.nan):.4f}{best}",
        "skipped": f"skipped: {event.get('reason')}",
        "resumed": "went on from a checkpoint",
        "finished": f"ended: {event.get('reason')}",
        "failed": f"failed: {event.get('reason')}",
        "note": f"note: {event.get('says')}",
    }.get(str(event.get("event")), "")
    return f"step {event['step']}  {told}" if told and "step" in event else told


def _wrapped(line: str, width: int) -> list[str]:
    import textwrap

    return textwrap.wrap(line, width, subsequent_indent="  ") or [""]


def _drawn(curve: Curve, n_steps: int, width: int, height: int, *, colored: bool) -> list[str]:
    """Return train, raw and smoothed, and validation as lines of characters; losses stand on a logarithmic axis."""
    import plotille

    figure = plotille.Figure()
    figure.width, figure.height, figure.origin = max(20, width - 24), max(3, height - 5), False
    figure.color_mode, figure.with_colors = "byte", colored
    series = [points for points in (curve.train, curve.smoothed, curve.checks) if len(points[0])]
    low = min(float(values[values > 0].min()) for _, values in series)
    high = max(float(values.max()) for _, values in series)
    figure.set_x_limits(0, 1.01 * max(float(n_steps), curve.train[0][-1], 1.0))
    figure.set_y_limits(math.log10(low) - 0.03, max(math.log10(high), math.log10(low) + 1e-3) + 0.03)
    figure.x_label, figure.y_label = "step", "loss"
    figure.x_ticks_fkt = lambda value, _: f"{value:.0f}"
    figure.y_ticks_fkt = lambda value, _: f"{10**value:9.3g}"
    for (x, y), color, name in ((curve.train, _RAW, "train"), (curve.smoothed, _SMOOTHED, "smoothed")):
        figure.plot(*_columns(x, y, figure.width * 2), lc=color, label=name)
    if len(curve.checks[0]):
        figure.scatter(*_columns(*curve.checks, 10**6), lc=_VALIDATION, marker="●", label="validation")
    lines = str(figure.show(legend=False)).split("\n")
    return [*(line.rstrip() for line in lines), _legend(colored=colored)]


def _legend(*, colored: bool) -> str:
    import plotille

    words = ((_RAW, "⠿ train, each step"), (_SMOOTHED, "⠤ smoothed"), (_VALIDATION, "● validation"))
    return " " * 12 + "   ".join(
        str(plotille.color(word, fg=number, mode="byte")) if colored else word for number, word in words
    )


def _columns(x: np.ndarray, y: np.ndarray, most: int) -> tuple[list[float], list[float]]:
    """Return the points thinned to about so many, losses as powers of ten; those not above zero left out."""
    import numpy as np

    from foldkit.curves import thinned

    across, up = thinned((x, y), most)
    kept = up > 0
    return across[kept].tolist(), np.log10(up[kept]).tolist()
