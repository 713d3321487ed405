"""`foldkit train`: trains an adapter, with progress."""

from __future__ import annotations

import contextlib
import signal
import sys
from collections.abc import Callable, Iterator, Mapping
from pathlib import Path
from typing import TYPE_CHECKING, Any

import click

from .common import err, find_run, open_sheet, out, sheet_options

if TYPE_CHECKING:
    from rich.console import Console

    from foldkit.runs import RunFolder
    from foldkit.training import TrainEvent
    from foldkit.work import Sheet


@click.command(epilog="Example: foldkit train --name first --set train.epochs=2")
@sheet_options
@click.option("--name", default="", help="Name of the run; the next free number by default.")
@click.option(
    "--resume",
    "resumed",
    is_flag=False,
    flag_value="",
    default=None,
    metavar="[RUN]",
    help="Go on with a run that was stopped, the newest by default, by its own sheet.",
)
def train(sheet_file: Path, changes: tuple[str, ...], name: str, resumed: str | None) -> None:
    """Train an adapter into a new folder under runs/; Ctrl-C saves and stops, --resume goes on."""
    from foldkit.formats import UsageError

    sheet = open_sheet(sheet_file, changes)
    if resumed is not None and (changes or name):
        raise UsageError(
            "--resume", "other options", "none, for a run has its own sheet", changes or name, "leave them out"
        )
    run = train_with_progress(sheet, name, find_run(sheet, resumed) if resumed is not None else None)
    if show_run(run) == "stopped":
        sys.exit(130)


def train_with_progress(sheet: Sheet, name: str = "", resumed: RunFolder | None = None) -> RunFolder:
    """Train with a progress bar on standard error, and a line at every validation."""
    from rich.progress import BarColumn, MofNCompleteColumn, Progress, TextColumn

    from foldkit.work import resume
    from foldkit.work import train as train_run

    bar = (TextColumn("train"), BarColumn(bar_width=20), MofNCompleteColumn(), TextColumn("{task.description}"))
    with Progress(*bar, console=err(), transient=True) as progress, _first_interrupt(progress.console) as asked:
        listen = _listener(progress)
        if resumed:
            return resume(resumed, listen, stop=asked)
        return train_run(sheet, name, listen, stop=asked)


@contextlib.contextmanager
def _first_interrupt(console: Console) -> Iterator[Callable[[], bool]]:
    """Yield a function that says whether Ctrl-C was pressed; the second time it interrupts as usual."""
    pressed = False

    def note(*_: object) -> None:
        nonlocal pressed
        if pressed:
            raise KeyboardInterrupt
        pressed = True
        console.print("finishing this step and saving; Ctrl-C again stops at once")

    before = signal.signal(signal.SIGINT, note)
    try:
        yield lambda: pressed
    finally:
        signal.signal(signal.SIGINT, before)


def _listener(progress: object) -> Callable[[TrainEvent], None]:
    from rich.progress import Progress

    from foldkit.training import Checked, Skipped, Started, Stepped

    assert isinstance(progress, Progress)
    task = progress.add_task("", total=None)

    def listen(event: TrainEvent) -> None:
        if isinstance(event, Started):
            share = event.n_trainable / event.n_base
            progress.update(task, total=event.n_steps, completed=event.step)
            going_on = f", {event.step} of them made before" if event.step else ""
            progress.console.print(
                f"{event.n_train} rows, {event.n_steps} steps{going_on}; {event.n_trainable:,} trainable numbers "
                f"({event.trainable_bytes / 1e6:.1f} MB) beside {event.n_base:,} frozen ({share:.1%})",
                soft_wrap=True,
            )
        elif isinstance(event, Stepped):
            to_go = f"{event.to_go // 60:.0f} min {event.to_go % 60:02.0f} s to go"
            said = f"loss {event.smoothed_loss:.3f}  {event.tokens_per_second:,.0f} tokens/s  {to_go}"
            progress.update(task, completed=event.step, description=said)
        elif isinstance(event, Skipped):
            rows = ", ".join(map(str, event.rows))
            progress.console.print(f"! step {event.step} skipped: {event.reason}; rows {rows}", soft_wrap=True)
        elif isinstance(event, Checked):
            best = "  best so far" if event.best else ""
            progress.console.print(
                f"step {event.step:>5}  validation loss {event.validation_loss:.4f}  "
                f"token accuracy {event.validation_accuracy:.3f}  {event.seconds:>5.0f} s{best}"
            )

    return listen


def show_run(run: RunFolder) -> str:
    """Print where everything stands, and return why the training ended."""
    from foldkit.runs import read_log

    log = read_log(run.log)
    (end,) = log.of("finished")
    console = out()
    for note in log.of("note"):
        console.print(f"! {note['says']}", soft_wrap=True, markup=False)
    peak = f", at most {end['peak_bytes'] / 1e6:,.0f} MB of memory" if end["peak_bytes"] else ""
    console.print(f"{run.path.name}: {_outcome(end)}, {end['seconds']:.0f} s{peak}", soft_wrap=True)
    if end["reason"] == "stopped":
        console.print(f"stopped at step {end['step']}; go on: foldkit train --resume {run.path.name}", soft_wrap=True)
    if end["best_step"]:
        console.print(f"adapter {run.adapter}", soft_wrap=True, markup=False)
    console.print(f"curve   {run.curve}", soft_wrap=True, markup=False)
    return str(end["reason"])


def _outcome(end: Mapping[str, Any]) -> str:
    """Say how good the best adapter is, and why the training ended where it was not its last step."""
    why = "" if end["reason"] in ("done", "stopped") else f" ({end['reason']})"
    if not end["best_step"]:
        return f"no validation yet at step {end['step']}{why}"
    return f"best validation loss {end['best_validation_loss']:.4f} at step {end['best_step']} of {end['step']}{why}"
