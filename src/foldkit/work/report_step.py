"""The page about a run: what was asked, data, curves, diagnosis, scorecard, answers."""

from __future__ import annotations

import json
from pathlib import Path
from typing import Any

from foldkit.adapters import read_header
from foldkit.curves import diagnose
from foldkit.datasets import Finding
from foldkit.formats import FoldKitError, write_aside
from foldkit.formats.errors import shown
from foldkit.report import Page, page_html
from foldkit.rows.tables import spread_places
from foldkit.runs import RunFolder, flat, read_log, read_run_sheet, shown_setting, summarise_run

from .sheet import Sheet, sheet_from_mapping
from .steps import build, check
from .training_step import sheet_of_run


def write_report(run: RunFolder, path: Path | None = None, most: int = 200) -> Path:
    """Write the page about a run, by default into its folder; at most so many rows stand side by side, from all over.

    What was not done yet, a scorecard for instance, is left out.
    """
    log, summary, sheet = read_log(run.log), summarise_run(run), sheet_of_run(run)
    card = run.read_scorecard() if run.scorecard.exists() else None
    rows = run.read_rows() if card and run.rows.exists() else []
    rows = [rows[place] for place in spread_places(len(rows), most)]
    started = log.last("started")
    data = [("source", sheet.rows.source), ("template", sheet.template.use)]
    data += [(f"rows in {part}", str(started[f"n_{part}"])) for part in ("train", "validation") if started]
    data += [("rows in test", str(card["n_rows"]))] if card else []
    notes = [note["says"] for note in log.of("note")]
    said = [str(found) for found in diagnose(log, summary.ended)]
    page = Page(run, summary, _asked(run, sheet), data, _findings(run, sheet), said, notes, card, rows, *_of_card(card))
    target = path or run.report
    write_aside(target, page_html(page))
    return target


def _of_card(card: dict[str, Any] | None) -> tuple[list[str], dict[str, Any]]:
    """Return what a scorecard says in words, and its tables."""
    return (card["says"], card["tables"]) if card else ([], {})


def _findings(run: RunFolder, sheet: Sheet) -> list[str]:
    """Return what the checks find in the run's data, or why that can't be said."""
    try:
        dataset = build(sheet)
        if run.adapter.exists() and read_header(run.adapter).data_fingerprint != dataset.fingerprint:
            return ["The data, the template or the split has changed since this training: its checks can't be told."]
        return [_finding(found) for found in check(sheet, dataset=dataset)]
    except FoldKitError as error:
        return [f"The data can't be read any more: {error}"]


def _finding(found: Finding) -> str:
    count = f"{len(found.rows)} × " if found.rows else ""
    example = f"; for example {shown(found.example)}" if found.example else ""
    return f"{count}{found.name}: {found.says}{example}"


def _asked(run: RunFolder, sheet: Sheet) -> list[tuple[str, str, bool]]:
    """Return every setting with whether it is at its default."""
    own = flat(read_run_sheet(run))
    needed = {"rows": {"source": sheet.rows.source}, "template": {"use": sheet.template.use}}
    defaults = flat(json.loads(json.dumps(sheet_from_mapping(needed, sheet.folder, "defaults").as_mapping())))
    shown = {"rows.source", "template.use", "base.model"}
    return [(key, shown_setting(value), value == defaults.get(key) and key not in shown) for key, value in own.items()]
