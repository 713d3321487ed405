"""`foldkit train`: trains an adapter, with progress."""

from __future__ import annotations

import contextlib
import os
import signal
import sys
from collections.abc import Callable, Iterator, Mapping, Sequence
from pathlib import Path
from typing import TYPE_CHECKING, Any

import click

from .common import (
    best_validation,
    built_with_count,
    err,
    find_run,
    open_to_build,
    out,
    progress_bar,
    refuse_beside,
    sheet_options,
    show_table,
    spinner,
)
from .interrupts import ending_signals, first_interrupt, heeded
from .lasting import lasting_output
from .training_shown import TrainingShown

if TYPE_CHECKING:
    from rich.progress import Progress

    from foldkit.runs import RunFolder
    from foldkit.training import TrainEvent, TriedRate
    from foldkit.work import Lead, Sheet, Tried


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
    help="Go on with a run that was stopped, or what --vary began; the newest by default.",
)
@click.option(
    "--vary",
    "varied",
    multiple=True,
    metavar="SECTION.KEY=[VALUES]",
    help="A run for each value, for each combination where repeated; ranked by validation.",
)
@click.option("--find-rate", "rates", is_flag=True, help="Try growing learning rates, suggest one, and train nothing.")
@click.option("--processes", type=click.IntRange(1), default=1, help="So many processes on this machine share a step.")
@lasting_output()
def train(
    sheet_file: Path,
    changes: tuple[str, ...],
    name: str,
    resumed: str | None,
    varied: tuple[str, ...],
    rates: bool,
    processes: int,
) -> None:
    """Train an adapter into a new folder under runs/. Ctrl-C saves and stops, --resume goes on."""
    from foldkit.formats import StoppedError, UsageError

    sheet, launched = open_to_build(sheet_file, changes), _launched()
    if rates:
        others = {"--vary": varied, "--resume": resumed is not None, "--name": name, "--processes": processes > 1}
        refuse_beside("--find-rate", others | launched)
        _find_rate(sheet)
        return
    if resumed is not None and (changes or name):
        raise UsageError(
            "--resume", "other options", "none, for a run has its own sheet", changes or name, "leave them out"
        )
    run_at = _to_resume(sheet, resumed) if resumed is not None else None
    if varied or (run_at and run_at.plan.exists()):
        refuse_beside("--vary", {"--processes": processes > 1, "--resume": varied and run_at, **launched})
        sys.exit(_vary(sheet, varied, name, run_at))
    if processes > 1:
        refuse_beside("--processes", launched)
        sys.exit(_together(sheet_file, changes, name, run_at, processes))
    if any(launched.values()) and os.environ.get("RANK", "0") != "0":
        # The first process writes, prints, and hears Ctrl-C; the others follow it.
        with heeded(signal.SIG_IGN, signal.SIGINT), first_interrupt(err(), *ending_signals()) as asked:
            try:
                _trained(sheet, name, run_at, asked)
            except StoppedError:  # the first one says so
                sys.exit(130)
        return
    run = train_with_progress(sheet, name, run_at)
    if show_run(run) == "stopped":
        sys.exit(130)


def _launched() -> dict[str, bool]:
    """Return what a launcher of several processes said: they make one training, and what makes more refuses them."""
    return {f"WORLD_SIZE={_size()}": _size() != "1"}


def _size() -> str:
    """Return how many processes a launcher says there are."""
    return os.environ.get("WORLD_SIZE") or "1"


def _to_resume(sheet: Sheet, name: str) -> RunFolder:
    """Return the run of that name; without one the newest, or the plan that it is part of."""
    from foldkit.work import plan_of

    run = find_run(sheet, name, "--resume")
    return run if name else plan_of(run) or run


def _together(sheet_file: Path, changes: tuple[str, ...], name: str, run: RunFolder | None, n_processes: int) -> int:
    """Run the same training in several processes and return the exit code."""
    from .processes import in_processes

    words = ["train", "--sheet", str(sheet_file)]
    words += [word for change in changes for word in ("--set", change)]
    words += ["--name", name] if name else []
    words += ["--resume", run.path.name] if run else []
    return in_processes(words, n_processes)


def _vary(sheet: Sheet, varied: Sequence[str], name: str, planned: RunFolder | None) -> int:
    """Train every combination, print what was tried, the best validation first, and return the exit code."""
    from foldkit.runs import shown_setting
    from foldkit.work import make_trials, plan_trials, read_trials

    trials = read_trials(planned) if planned else plan_trials(sheet, varied, name)
    with _progress() as (progress, asked):

        def tell(number: int, n_runs: int, settings: Mapping[str, Any]) -> None:
            said = ", ".join(f"{key} {shown_setting(value)}" for key, value in settings.items())
            progress.console.print(f"\nrun {number} of {n_runs}: {said}")

        tried = make_trials(trials, tell, TrainingShown(progress).hear, stop=asked)
        stopped = asked()
    _show_tried(tried, trials.folder.path.name)
    if stopped or any(state != "finished" for one in tried for state in one.states):
        out().print(f"not all are finished; go on: foldkit train --resume {trials.folder.path.name}")
    return 130 if stopped else 0


def _show_tried(tried: Sequence[Tried], name: str) -> None:
    from foldkit.runs import clock, shown_setting
    from foldkit.work import lead_of

    header = [*tried[0].settings, "best validation", "95% over seeds", "time", "runs", "state"]
    lines = []
    for one in tried:
        interval = f"{one.ends[0]:.4f}–{one.ends[1]:.4f}" if one.ends else "–"
        mean = f"{one.mean:.4f}" if one.losses else "–"
        state = ", ".join(dict.fromkeys(one.states))
        runs = ", ".join(one.runs) if len(one.runs) < 3 else f"{one.runs[0]} to {one.runs[-1]}"
        lines.append([*map(shown_setting, one.settings.values()), mean, interval, clock(one.seconds), runs, state])
    show_table(out(), header, lines, f"{name}: ranked by validation; the test part was not looked at")
    if lead := lead_of(tried):
        out().print(_said_of_lead(lead))


def _said_of_lead(lead: Lead) -> str:
    """Say how far the best setting is ahead of the next one, and whether that is more than the seeds' doing."""
    said = f"the first is ahead of the second by {lead.value:.4f}"
    todo = "take the one that costs less, or add seeds"
    if lead.ends is None:
        return f"{said} with one seed, which says little: add --vary 'train.seed=[1, 2, 3]'"
    told = "more than seeds make" if lead.sure else f"these seeds cannot tell; {todo}"
    return f"{said} ({lead.ends[0]:+.4f} to {lead.ends[1]:+.4f} over {lead.n_seeds} seeds): {told}"


def train_with_progress(sheet: Sheet, name: str = "", resumed: RunFolder | None = None) -> RunFolder:
    """Train with a progress bar on standard error, and a line at every validation."""
    from foldkit.runs import check_name

    if not resumed:
        check_name(sheet.path("runs"), name)  # before the work of building
        built_with_count(sheet)
    with _progress() as (progress, asked):
        return _trained(sheet, name, resumed, asked, TrainingShown(progress).hear)


def _trained(
    sheet: Sheet,
    name: str,
    resumed: RunFolder | None,
    stop: Callable[[], bool],
    listen: Callable[[TrainEvent], None] | None = None,
) -> RunFolder:
    from foldkit.work import resume
    from foldkit.work import train as train_run

    return resume(resumed, listen, stop=stop) if resumed else train_run(sheet, name, listen, stop=stop)


@contextlib.contextmanager
def _progress() -> Iterator[tuple[Progress, Callable[[], bool]]]:
    """Yield a progress bar on standard error, and a function that says whether it is to stop."""
    from rich.progress import BarColumn, MofNCompleteColumn, TextColumn

    bar = (TextColumn("train"), BarColumn(bar_width=20), MofNCompleteColumn(), TextColumn("{task.description}"))
    signals = (signal.SIGINT, *ending_signals())
    with progress_bar(*bar) as progress, first_interrupt(progress.console, *signals) as asked:
        yield progress, asked


def _find_rate(sheet: Sheet) -> None:
    """Try rates with a line for each on standard error, then print the suggestion."""
    from foldkit.work import find_rate

    built_with_count(sheet)
    with spinner() as progress:

        def tell(one: TriedRate, most: int) -> None:
            progress.console.print(f"{one.step:>3} of {most}  rate {one.learning_rate:.1e}  loss {one.loss:.3f}")
            progress.update(progress.task_ids[0], description="trying rates")

        found = find_rate(sheet, tell, TrainingShown(progress).hear)
    console = out()
    console.print(f"picture {found.picture}")
    if found.rate is None:
        console.print("no rate lowered the loss by a tenth: look at the rows first (foldkit look)")
        return
    said = f"suggested: foldkit train --set train.learning_rate={found.rate:.1e}"
    console.print(f"{said}  (the sheet has {sheet.train.learning_rate:.1e})")


def show_run(run: RunFolder) -> str:
    """Print where everything stands, and return why the training ended."""
    from foldkit.curves import diagnose
    from foldkit.runs import read_log

    log = read_log(run.log)
    (end,) = log.of("finished")
    console = out()
    # How to go on with one that was stopped is said below.
    found = [one for one in diagnose(log, end["reason"]) if (one.name, end["reason"]) != ("stopped early", "stopped")]
    for one in found:
        console.print(f"! {one}")
    peak = f", at most {end['peak_bytes'] / 1e6:,.0f} MB of memory" if end["peak_bytes"] else ""
    console.print(f"{run.path.name}: {_outcome(run, end)}, {end['seconds']:.0f} s{peak}")
    if end["reason"] == "stopped":
        console.print(f"stopped at step {end['step']}; go on: {_how_to_go_on(run.path.name)}")
    if end["best_step"]:
        console.print(f"adapter {run.adapter}")
    console.print(f"curve   {run.curve}")
    return str(end["reason"])


def _how_to_go_on(name: str) -> str:
    if "TORCHELASTIC_RUN_ID" in os.environ:
        return f"the same command with --resume {name}, on each machine"
    return f"foldkit train --resume {name}" + (f" --processes {_size()}" if _size() != "1" else "")


def _outcome(run: RunFolder, end: Mapping[str, Any]) -> str:
    """Say how good the best adapter is, and why the training ended where it was not its last step."""
    why = "" if end["reason"] in ("done", "stopped") else f" ({end['reason']})"
    if not end["best_step"]:
        return f"no validated adapter yet at step {end['step']}{why}"
    return f"{best_validation(run, end['best_validation_loss'], end['best_step'])} of {end['step']}{why}"
