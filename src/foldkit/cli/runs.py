"""`foldkit runs`: what was trained; compare, note, stop, delete, export."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING

import click

from .common import (
    NewFile,
    best_validation,
    find_run,
    find_runs,
    open_sheet,
    other_losses,
    out,
    sheet_option,
    short,
    show_table,
)
from .groups import Commands

if TYPE_CHECKING:
    from foldkit.runs import RunSummary

_ENDINGS = (".csv", ".parquet")


@click.group(cls=Commands, invoke_without_command=True, epilog="Example: foldkit runs compare run-001 run-002")
@sheet_option
@click.pass_context
def runs(ctx: click.Context, sheet_file: Path) -> None:
    """List what was trained; compare, note, stop, delete, export it."""
    ctx.obj = sheet_file
    if ctx.invoked_subcommand:
        return
    from foldkit.runs import list_runs

    found = list_runs(open_sheet(sheet_file, ()).path("runs"))
    header = ["run", "state", "base", "rows", "steps", "best validation", "time", "note"]
    show_table(out(), header, [_line(run) for run in found], f"runs, newest last: {len(found)}")


def _line(run: RunSummary) -> list[str]:
    from foldkit.runs import clock

    steps = f"{run.step}" if run.step == run.n_steps else f"{run.step} of {run.n_steps}"
    best = "–" if run.best_validation_loss is None else f"{run.best_validation_loss:.4f} at {run.best_step}"
    base = Path(run.base).name
    return [run.name, run.state, base, str(run.n_train), steps, best, clock(run.seconds), short(run.note)]


@runs.command()
@click.argument("run", default="")
@click.pass_obj
def show(sheet_file: Path, run: str) -> None:
    """Show one run: outcome, what its figures say, settings, files. RUN is the newest by default."""
    from foldkit.curves import diagnose
    from foldkit.runs import flat, read_log, read_run_sheet, shown_setting, summarise_run
    from foldkit.runs.keeping import scores

    from .live import View

    folder = find_run(open_sheet(sheet_file, ()), run)
    summary, console = summarise_run(folder), out()
    log = read_log(folder.log)
    console.print(View(summary, log).headline())
    if summary.note:
        console.print(f"note: {summary.note}")
    if summary.best_validation_loss is not None:
        console.print(best_validation(folder, summary.best_validation_loss, summary.best_step))
    for name, value in scores(folder).items():
        console.print(f"{name} {value:.4f}")
    for said in diagnose(log, summary.ended):
        console.print(f"! {said}")
    lines = [[key, shown_setting(value)] for key, value in flat(read_run_sheet(folder)).items()]
    show_table(console, ["setting", "value"], [[key, short(value, 80)] for key, value in lines], "settings")
    for path in sorted(folder.path.iterdir()):
        if not path.name.startswith("."):
            console.print(str(path))


@runs.command()
@click.argument("names", nargs=-1, required=True)
@click.pass_obj
def compare(sheet_file: Path, names: tuple[str, ...]) -> None:
    """Set what differs between runs beside what they came to."""
    from foldkit.runs import differing, read_run_sheet, shown_setting, summarise_run
    from foldkit.runs.keeping import scores

    found = find_runs(open_sheet(sheet_file, ()), names)
    sheets = differing([read_run_sheet(run) for run in found])
    lines = [[key, *(short(shown_setting(value), 30) for value in values)] for key, values in sheets.items()]
    summaries = [_line(summarise_run(run)) for run in found]
    outcomes = (("state", 1), ("rows", 3), ("steps", 4), ("best validation", 5), ("time", 6))
    lines += [[name, *(line[place] for line in summaries)] for name, place in outcomes]
    scored = [scores(run) for run in found]
    for name in dict.fromkeys(key for figures in scored for key in figures):
        lines.append([name, *(f"{figures[name]:.4f}" if name in figures else "–" for figures in scored)])
    show_table(out(), ["", *(run.path.name for run in found)], lines, "what differs, and what came of it")
    if said := other_losses(found):
        out().print(f"! {said}")


@runs.command()
@click.argument("run")
@click.argument("text")
@click.pass_obj
def note(sheet_file: Path, run: str, text: str) -> None:
    """Keep a note with RUN; an empty one takes it away."""
    from foldkit.runs import write_note

    write_note(find_run(open_sheet(sheet_file, ()), run), text)


@runs.command()
@click.argument("run", default="")
@click.pass_obj
def stop(sheet_file: Path, run: str) -> None:
    """Ask a training to save and stop after its step. RUN is the newest by default."""
    from foldkit.runs import ask_to_stop

    folder = find_run(open_sheet(sheet_file, ()), run)
    ask_to_stop(folder)
    said = f"{folder.path.name} saves and stops after its step; go on: foldkit train --resume {folder.path.name}"
    out().print(said)


@runs.command()
@click.argument("names", nargs=-1, required=True)
@click.option("--yes", is_flag=True, help="Do not ask.")
@click.pass_obj
def delete(sheet_file: Path, names: tuple[str, ...], yes: bool) -> None:
    """Remove runs, their adapters and logs, after asking."""
    from foldkit.runs import delete_run

    for folder in find_runs(open_sheet(sheet_file, ()), names):
        if yes or click.confirm(f"remove {folder.path} and its adapter for good?", err=True):
            delete_run(folder)
            out().print(f"removed {folder.path}")


@runs.command()
@click.argument("path", type=NewFile(fresh=True))
@click.pass_obj
def export(sheet_file: Path, path: Path) -> None:
    """Write a line for every run to PATH, .csv or .parquet. It has outcome, scores and settings."""
    from foldkit.formats import one_of
    from foldkit.formats.tables import write_table
    from foldkit.work import runs_table

    one_of(path.suffix, _ENDINGS, "foldkit runs export", "ending")
    table = runs_table(open_sheet(sheet_file, ()))
    write_table(path, table)
    click.echo(f"runs in {path}: {len(table)}")
