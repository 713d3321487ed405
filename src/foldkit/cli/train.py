"""`foldkit train`: trains an adapter, with progress."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path
from typing import TYPE_CHECKING

import click

from .common import err, open_sheet, out, sheet_options

if TYPE_CHECKING:
    from foldkit.runs import RunFolder
    from foldkit.training import TrainEvent
    from foldkit.work import Sheet


@click.command(epilog="Example: foldkit train --name first --set train.epochs=2")
@sheet_options
@click.option("--name", default="", help="Name of the run; the next free number by default.")
def train(sheet_file: Path, changes: tuple[str, ...], name: str) -> None:
    """Train an adapter into a new folder under runs/."""
    run = train_with_progress(open_sheet(sheet_file, changes), name)
    show_run(run)


def train_with_progress(sheet: Sheet, name: str = "") -> RunFolder:
    """Train with a progress bar on standard error, and a line at every validation."""
    from rich.progress import BarColumn, MofNCompleteColumn, Progress, TextColumn, TimeRemainingColumn

    from foldkit.work import train as train_run

    columns = (
        TextColumn("train"),
        BarColumn(bar_width=24),
        MofNCompleteColumn(),
        TextColumn("{task.description}"),
        TextColumn("to go"),
        TimeRemainingColumn(),
    )
    with Progress(*columns, console=err(), transient=True) as progress:
        return train_run(sheet, name, _listener(progress))


def _listener(progress: object) -> Callable[[TrainEvent], None]:
    from rich.progress import Progress

    from foldkit.training import Checked, Started, Stepped

    assert isinstance(progress, Progress)
    task = progress.add_task("", total=None)

    def listen(event: TrainEvent) -> None:
        if isinstance(event, Started):
            share = event.n_trainable / event.n_base
            progress.update(task, total=event.n_steps)
            progress.console.print(
                f"{event.n_train} rows, {event.n_steps} steps; {event.n_trainable:,} trainable numbers "
                f"beside {event.n_base:,} frozen ({share:.1%})"
            )
        elif isinstance(event, Stepped):
            said = f"loss {event.loss:.3f}  {event.tokens_per_second:,.0f} tokens/s"
            progress.update(task, completed=event.step, description=said)
        elif isinstance(event, Checked):
            best = "  best so far" if event.best else ""
            progress.console.print(
                f"step {event.step:>5}  validation loss {event.validation_loss:.4f}  "
                f"token accuracy {event.validation_accuracy:.3f}  {event.seconds:>5.0f} s{best}"
            )

    return listen


def show_run(run: RunFolder) -> None:
    """Print where everything stands."""
    from foldkit.runs import read_log

    log = read_log(run.log)
    (end,) = log.of("finished")
    console = out()
    for note in log.of("note"):
        console.print(f"! {note['says']}", soft_wrap=True, markup=False)
    best = f"best validation loss {end['best_validation_loss']:.4f} at step {end['best_step']} of {end['step']}"
    peak = f", at most {end['peak_bytes'] / 1e6:,.0f} MB of memory" if end["peak_bytes"] else ""
    console.print(f"{run.path.name}: {best}, {end['seconds']:.0f} s{peak}", soft_wrap=True)
    console.print(f"adapter {run.adapter}\ncurve   {run.curve}", soft_wrap=True, markup=False)
