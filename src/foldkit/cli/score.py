"""`foldkit score`: base, contenders and adapter on the test rows."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING

import click

from .common import err, find_run, open_sheet, out, sheet_options, show_table

if TYPE_CHECKING:
    from foldkit.runs import RunFolder
    from foldkit.scoring import Scorecard
    from foldkit.work import Sheet


@click.command(epilog="Example: foldkit score --run run-002")
@sheet_options
@click.option("--run", "run_name", default="", help="The run to score; the newest by default.")
def score(sheet_file: Path, changes: tuple[str, ...], run_name: str) -> None:
    """Score base and adapter on the same test rows."""
    sheet = open_sheet(sheet_file, changes)
    run = find_run(sheet, run_name)
    show_scorecard(score_with_progress(sheet, run))
    out().print(f"scorecard {run.scorecard.with_suffix('.md')}", soft_wrap=True)


def score_with_progress(sheet: Sheet, run: RunFolder) -> Scorecard:
    """Score with a progress bar for each contender on standard error."""
    from rich.progress import BarColumn, MofNCompleteColumn, Progress, TextColumn, TimeRemainingColumn

    from foldkit.work import score as score_run

    columns = (
        TextColumn("score {task.description}"),
        BarColumn(bar_width=24),
        MofNCompleteColumn(),
        TextColumn("to go"),
        TimeRemainingColumn(),
    )
    with Progress(*columns, console=err(), transient=True) as progress:
        tasks: dict[str, int] = {}

        def listen(name: str, done: int, total: int) -> None:
            if name not in tasks:
                tasks[name] = progress.add_task(name, total=total)
            progress.update(tasks[name], completed=done)  # type: ignore[arg-type]

        return score_run(sheet, run, listen)


def show_scorecard(card: Scorecard) -> None:
    """Print the figures, by field and by group, and what they mean."""
    from foldkit.scoring.markdown import field_rows, figure_rows, group_rows, verdict_lines

    console = out()
    show_table(console, *_upright(*figure_rows(card)), f"scorecard, {card.n_rows} test rows, 95% intervals")
    if card.contenders[0].fields:
        show_table(console, *field_rows(card), "share right by field")
    if card.by_counts:
        show_table(console, *group_rows(card), f"by {card.signed['by']}")
    for line in verdict_lines(card):
        console.print(line, markup=False)


def _upright(header: list[str], lines: list[list[str]]) -> tuple[list[str], list[list[str]]]:
    """Put each interval under its figure, so that the table fits a terminal."""
    return header, [
        [cell.replace(" (", "\n(") if index > 1 else cell for index, cell in enumerate(line)] for line in lines
    ]
