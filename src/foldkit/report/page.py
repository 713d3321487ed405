"""One self-contained HTML page about a run: no outside links, light and dark, for a screen, a phone and paper."""

from __future__ import annotations

import io
import re
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

from foldkit.curves import draw_figure
from foldkit.runs import RunFolder, RunSummary, clock

TEMPLATE = Path(__file__).parent / "page.html"


@dataclass(frozen=True)
class Page:
    """What stands on the page. Tables are a header and lines of text.

    `scorecard` and `rows` are the scorecard and its rows as their files hold them, None and empty without.
    """

    run: RunFolder
    summary: RunSummary
    asked: Sequence[tuple[str, str, bool]]
    data: Sequence[tuple[str, str]]
    findings: Sequence[str]
    diagnosis: Sequence[str]
    notes: Sequence[str]
    scorecard: Mapping[str, Any] | None = None
    rows: Sequence[Mapping[str, Any]] = ()
    verdicts: Sequence[str] = ()
    tables: Mapping[str, tuple[Sequence[str], Sequence[Sequence[str]]]] = field(default_factory=dict)


def page_html(page: Page) -> str:
    """Return the page as HTML."""
    import jinja2

    environment = jinja2.Environment(autoescape=True, trim_blocks=True, lstrip_blocks=True)
    template = environment.from_string(TEMPLATE.read_text(encoding="utf-8"))
    pictures = {"wide": _svg(page.run, (12.8, 7.2)), "narrow": _svg(page.run, (5.2, 7.2))}
    return template.render(page=page, pictures=pictures, words=_words(page))


def _svg(run: RunFolder, size: tuple[float, float]) -> str:
    """Return the losses as SVG in the page's own colours for text and rules; "" for a run without a step."""
    import matplotlib as mpl

    from foldkit.formats import InputError

    buffer = io.StringIO()
    try:
        # Text stays text, and ids do not change from one time to the next.
        with mpl.rc_context({"svg.fonttype": "none", "svg.hashsalt": run.path.name, "font.family": "sans-serif"}):
            figure = draw_figure(run, size=size)
            figure.savefig(buffer, format="svg", transparent=True, metadata={"Date": None})
    except InputError:
        return ""
    text = buffer.getvalue()
    text = text[text.index("<svg") :]
    text = re.sub(r'width="[\d.]+pt" height="[\d.]+pt"', "", text, count=1)
    text = re.sub(r"<metadata>.*?</metadata>", "", text, flags=re.DOTALL)
    own = {"#000000": "var(--ink)", "#dddddd": "var(--rule)", "#ffffff": "var(--paper)", "#0072b2": "var(--train)"}
    for color, name in own.items():
        text = text.replace(color, name)
    marked = re.sub(r"(<text )", r'\1fill="currentColor" ', text)
    return marked.replace("sans-serif", "system-ui, sans-serif")


def _words(page: Page) -> dict[str, str]:
    """Return what is said of the outcome in the first line."""
    run = page.summary
    best = "" if run.best_validation_loss is None else f"{run.best_validation_loss:.4f}"
    return {"best": best, "progress": f"{run.step} of {run.n_steps}", "time": clock(run.seconds)}
