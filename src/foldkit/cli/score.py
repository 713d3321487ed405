"""`foldkit score`: base, contenders and adapter on the test rows."""

from __future__ import annotations

import math
from collections.abc import Mapping
from pathlib import Path
from typing import TYPE_CHECKING

import click

from foldkit.runs import RunFolder

from .common import (
    NewFile,
    built_with_count,
    find_run,
    open_to_build,
    out,
    progress_bar,
    refuse_beside,
    refuse_together,
    sheet_options,
    show_table,
)

if TYPE_CHECKING:
    from foldkit.scoring import Scorecard
    from foldkit.work import Sheet


@click.command(epilog="Example: foldkit score run-002 --fail-under exact=0.8")
@click.argument("run_name", metavar="[RUN]", default="")
@sheet_options
@click.option("--before", is_flag=True, help="Before training: the base, and the base with shots.")
@click.option("--fail-under", "least", multiple=True, metavar="MEASURE=VALUE", help="Exit code 1 below this figure.")
@click.option("--rows", "rows", type=NewFile(fresh=True), help="Write every row's figures: .csv or .parquet.")
@click.option("--pick", "picks", is_flag=True, help="Pick the better of two answers, blind; base against adapter.")
def score(
    run_name: str,
    sheet_file: Path,
    changes: tuple[str, ...],
    before: bool,
    least: tuple[str, ...],
    rows: Path | None,
    picks: bool,
) -> None:
    """Score base, contenders and adapter on the same test rows.

    RUN is the newest by default. Before there is one, base and shots alone.
    """
    from foldkit.formats import one_of
    from foldkit.formats.tables import write_table

    sheet = open_to_build(sheet_file, changes)
    limits = _limits(least, sheet)
    if rows:
        one_of(rows.suffix, (".csv", ".parquet"), "--rows", "ending")
    refuse_together({"--before": before, "RUN": run_name})
    if picks:
        refuse_beside("--pick", {"--before": before, "--rows": rows, "--fail-under": least})
    begun = not before and (run_name or any(sheet.path("runs").glob("*/adapter.safetensors")))
    run = find_run(sheet, run_name) if begun or picks else None
    if picks and run:
        from .pick import pick_by_hand

        pick_by_hand(sheet, run)
        return
    card = score_with_progress(sheet, run)
    show_scorecard(card, sheet.score.enough)
    at = (run or RunFolder(sheet.path("before"))).scorecard
    out().print(f"scorecard {at.with_suffix('.md')}\npicture   {at.with_suffix('.png')}")
    if rows:
        write_table(rows, card.row_table())
    _hold(card, limits)


def _limits(least: tuple[str, ...], sheet: Sheet) -> dict[str, float]:
    """Return the figure that each measure must reach. Raises UsageError for one that is not scored."""
    from foldkit.formats import UsageError

    found = {}
    for text in least:
        name, _, value = text.partition("=")
        try:
            limit = float(value)
        except ValueError:
            limit = math.nan
        if name not in sheet.score.measure_names or math.isnan(limit):
            allowed = f"MEASURE=NUMBER, of {', '.join(sheet.score.measure_names)}"
            raise UsageError("--fail-under", "limit", allowed, text, "for example exact=0.8")
        found[name] = limit
    return found


def _hold(card: Scorecard, limits: Mapping[str, float]) -> None:
    """End with code 1 where the last contender does not reach a limit; a measure where less is better must be under."""
    from foldkit.formats import FoldKitError

    last = card.contenders[-1]
    for name, limit in limits.items():
        if name not in last.measures:
            raise FoldKitError(f"--fail-under: {name} could not be taken of {last.name}; choose another measure")
        value = last.measures[name].value
        higher = card.signed["higher_is_better"][name]
        if not (value >= limit if higher else value <= limit):
            side = "under" if higher else "over"
            raise FoldKitError(f"--fail-under: {name} of {last.name} is {value:.4f}, {side} {limit:g}")


def score_with_progress(sheet: Sheet, run: RunFolder | None) -> Scorecard:
    """Score with a progress bar for each contender on standard error."""
    from rich.progress import BarColumn, MofNCompleteColumn, TextColumn, TimeRemainingColumn

    from foldkit.work import score as score_run

    built_with_count(sheet)
    columns = (
        TextColumn("score {task.description}", markup=False),
        BarColumn(bar_width=24),
        MofNCompleteColumn(),
        TextColumn("to go"),
        TimeRemainingColumn(),
    )
    with progress_bar(*columns) as progress:
        tasks: dict[str, int] = {}

        def listen(name: str, done: int, total: int) -> None:
            if name not in tasks:
                tasks[name] = progress.add_task(name, total=total)
            progress.update(tasks[name], completed=done)  # type: ignore[arg-type]

        return score_run(sheet, run, listen)


def show_scorecard(card: Scorecard, enough: float = 0.9) -> None:
    """Print the figures, by field and by group, and what they mean; all else stands in the files."""
    from foldkit.scoring.markdown import all_lines, main_tables

    console = out()
    (_, figures), *others = main_tables(card).items()
    show_table(console, *_upright(*figures), f"scorecard, {card.n_rows} test rows, 95% intervals")
    for title, table in others:
        show_table(console, *table, title.lower())
    for line in all_lines(card, enough):
        console.print(line)


def _upright(header: list[str], lines: list[list[str]]) -> tuple[list[str], list[list[str]]]:
    """Put each interval under its figure, so that the table fits a terminal."""
    return header, [
        [cell.replace(" (", "\n(") if index > 1 else cell for index, cell in enumerate(line)] for line in lines
    ]
