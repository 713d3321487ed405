"""`foldkit watch`: a run as it goes, from any terminal."""

from __future__ import annotations

import sys
import time
from pathlib import Path
from typing import TYPE_CHECKING

import click

from .common import find_run, open_sheet, out, sheet_options

if TYPE_CHECKING:
    from foldkit.runs import RunFolder

    from .live import View

# A look costs its reading; between two looks so many times that goes by, and half a second at least.
_REST, _PAUSE = 4, 0.5


@click.command(epilog="Example: foldkit watch run-002; the exit code is the run's: 0 finished, 130 stopped, 1 failed.")
@click.argument("run", default="")
@sheet_options
@click.option("--once", is_flag=True, help="Show the run as it is now, and end.")
def watch(run: str, sheet_file: Path, changes: tuple[str, ...], once: bool) -> None:
    """Follow a run until it ends: losses, figures, time to go, events. RUN is the newest by default."""
    folder = find_run(open_sheet(sheet_file, changes), run)
    if once:
        console = out()
        colored = console.is_terminal and not console.no_color
        click.echo(_view(folder).text(console.width, max(24, console.height - 1), colored=colored), color=colored)
        return
    last = _follow_on_screen(folder) if out().is_terminal else _follow_in_lines(folder)
    sys.exit(last.summary.exit_code)


def _view(folder: RunFolder) -> View:
    from foldkit.formats import InputError
    from foldkit.runs import RunLog, read_log, summarise_run

    from .live import View

    summary = summarise_run(folder)
    try:
        return View(summary, read_log(folder.log))
    except InputError:  # the folder is made, the log is not yet
        return View(summary, RunLog.of_events([]))


def _follow_on_screen(folder: RunFolder) -> View:
    """Redraw in place until the run ends, and leave the last picture standing."""
    from rich.live import Live
    from rich.text import Text

    console = out()

    def drawn(view: View) -> Text:
        colored = not console.no_color
        return Text.from_ansi(view.text(console.width, console.height - 1, colored=colored))

    view = _view(folder)
    with Live(drawn(view), console=console, auto_refresh=False, vertical_overflow="crop") as live:
        while view.summary.state == "training":
            began = time.monotonic()
            view = _view(folder)
            live.update(drawn(view), refresh=True)
            time.sleep(max(_PAUSE, _REST * (time.monotonic() - began)))
    return view


def _follow_in_lines(folder: RunFolder) -> View:
    """Print a line at the start, at each validation and at the end."""
    view, checks = _view(folder), -1
    while True:
        done = len(view.log.of("validation"))
        if done != checks or view.summary.state != "training":
            click.echo(view.line())
            sys.stdout.flush()
        if view.summary.state != "training":
            return view
        checks = done
        time.sleep(_PAUSE)
        view = _view(folder)
