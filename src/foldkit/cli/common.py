"""What the commands share: the options that name a sheet, consoles, tables."""

from __future__ import annotations

import contextlib
import os
import sys
from collections.abc import Callable, Iterator, Mapping, Sequence
from pathlib import Path
from typing import TYPE_CHECKING, Any, TextIO, TypeVar

import click

if TYPE_CHECKING:
    from rich.console import Console, JustifyMethod
    from rich.progress import Progress, ProgressColumn
    from rich.table import Table
    from rich.text import Text

    from foldkit.datasets import Dataset
    from foldkit.runs import RunFolder
    from foldkit.work import Inputs, Sheet

F = TypeVar("F", bound=Callable[..., Any])


class NewFile(click.Path):
    """A file to write, refused before any work where its folder cannot have it; a `fresh` one where itself is there."""

    def __init__(self, *, fresh: bool = False) -> None:
        super().__init__(path_type=Path, dir_okay=False)
        self.fresh = fresh

    def convert(
        self, value: str | os.PathLike[str], param: click.Parameter | None, ctx: click.Context | None
    ) -> str | bytes | os.PathLike[str]:
        """Return the path."""
        path = Path(os.fsdecode(super().convert(value, param, ctx)))
        if not path.parent.is_dir():
            self.fail(f"expected a file in a folder that is there, found {str(path)!r}; make that folder first")
        if not os.access(path.parent, os.W_OK):
            self.fail(f"expected a file in a folder that can be written in, found {str(path)!r}; choose another")
        if self.fresh and path.exists():
            self.fail(f"expected a new file, found {str(path)!r}; choose another name or remove it")
        return path


def sheet_option(command: F) -> F:
    """Add `--sheet` to a command."""
    add = click.option(
        "--sheet",
        "sheet_file",
        type=click.Path(path_type=Path),
        default=Path("fold.toml"),
        show_default=True,
        help="The sheet to work from.",
    )
    return add(command)


def sheet_options(command: F) -> F:
    """Add `--sheet` and `--set` to a command."""
    add_set = click.option(
        "--set", "changes", multiple=True, metavar="SECTION.KEY=VALUE", help="Change one setting; may be repeated."
    )
    return sheet_option(add_set(command))


def refuse_beside(option: str, others: Mapping[str, object]) -> None:
    """Raise UsageError where any of the others is given, which could not be heeded beside this option."""
    from foldkit.formats import UsageError

    if found := [name for name, value in others.items() if value]:
        raise UsageError(option, "other options", "none of these beside it", " and ".join(found), "leave them out")


def refuse_together(given: Mapping[str, object]) -> None:
    """Raise UsageError where more than one of these options is given."""
    first, *others = [option for option, value in given.items() if value] or [""]
    refuse_beside(first, dict.fromkeys(others, True))


def open_sheet(sheet_file: Path, changes: Sequence[str]) -> Sheet:
    """Read the sheet of a command."""
    from foldkit.work import read_sheet

    return read_sheet(sheet_file, changes)


def open_to_build(sheet_file: Path, changes: Sequence[str]) -> Sheet:
    """Read the sheet of a command that needs the dataset; where another is building it, say that this one waits."""
    from foldkit.formats import is_locked

    sheet = open_sheet(sheet_file, changes)
    first = os.environ.get("RANK", "0") == "0"  # of several processes of one training, which wait for it anyway
    if first and is_locked(sheet.path("built") / "lock"):
        err().print(f"another command is building {sheet.path('built')}: waiting for it")
    return sheet


def find_run(sheet: Sheet, name: str, option: str = "RUN") -> RunFolder:
    """Return the run of that name, or the newest one."""
    from foldkit.formats import UsageError, near_name
    from foldkit.runs import RunFolder, newest_run

    folder = sheet.path("runs")
    if not name:
        return newest_run(folder)
    if not (folder / name).is_dir():
        known = [path.name for path in folder.glob("*")] if folder.is_dir() else []
        raise UsageError(option, "run", "a run of this sheet", name, near_name(name, known))
    return RunFolder(folder / name)


def find_runs(sheet: Sheet, names: Sequence[str]) -> list[RunFolder]:
    """Return the runs of these names, or the newest one alone."""
    return [find_run(sheet, name) for name in names or ("",)]


def other_losses(found: Sequence[RunFolder]) -> str:
    """Say what makes the validation losses of runs such that they can't be compared, "" for nothing."""
    from foldkit.formats import listed
    from foldkit.runs import differing, of_loss, read_run_sheet, summarise_run

    keys = of_loss(differing([read_run_sheet(run) for run in found]))
    n_train = sorted({summarise_run(run).n_train for run in found} - {0})
    by = listed(keys) if keys else f"{listed(n_train)} rows in train" if len(n_train) > 1 else ""
    return f"by {by} these validation losses are of other rows or another loss: they can't be compared" if by else ""


def pressed_key() -> str:
    """Return the next key that is pressed. Raises UsageError where there is no terminal to press it in."""
    from foldkit.formats import UsageError

    try:
        return click.getchar()
    except OSError:
        raise UsageError("keys", "input", "a terminal", "none", "run this command in one") from None


def out() -> Console:
    """Return the console of results; where it is no terminal, tables have room for columns."""
    free = not sys.stdout.isatty() and "COLUMNS" not in os.environ
    return _console(sys.stdout, 140 if free else None)


def err() -> Console:
    """Return the console of progress."""
    return _console(sys.stderr)


def _console(stream: TextIO, width: int | None = None) -> Console:
    """Return a console that writes texts as they are, whatever brackets and colons they hold.

    In a terminal lines go on below at a blank; elsewhere they are whole.
    """
    from rich.console import Console

    return Console(file=stream, highlight=False, markup=False, emoji=False, soft_wrap=not stream.isatty(), width=width)


def headed(head: str, rest: str = "", style: str = "") -> Text:
    """Return a text that begins in bold."""
    from rich.text import Text

    return Text.assemble((head, "bold"), (rest, style))


def progress_bar(*columns: ProgressColumn) -> Progress:
    """Return a bar on standard error that leaves nothing behind, and is not there where that is no terminal."""
    from rich.progress import Progress

    console = err()
    return Progress(*columns, console=console, transient=True, disable=not console.is_terminal)


def spinner() -> Progress:
    """Return such a bar for work of unknown length: what is done, and how long it takes."""
    from rich.progress import SpinnerColumn, TextColumn, TimeElapsedColumn

    return progress_bar(SpinnerColumn(), TextColumn("{task.description}"), TimeElapsedColumn())


@contextlib.contextmanager
def shown_work(says: str) -> Iterator[Progress]:
    """Show on standard error what is done, with how long it takes, for the length of a `with` block."""
    with spinner() as progress:
        progress.add_task(says, total=None)
        yield progress


def built_with_count(sheet: Sheet, inputs: Inputs | None = None) -> Dataset:
    """Build the dataset, or open it, with a count of the rows on standard error."""
    from foldkit.work import build

    n_done = 0
    with shown_work("build") as progress:

        def count(n_rows: int) -> None:
            nonlocal n_done
            n_done += n_rows
            progress.update(progress.task_ids[0], description=f"build: {n_done:,} rows")

        return build(sheet, inputs, count)


def show_table(console: Console, header: Sequence[str], lines: Sequence[Sequence[str]], title: str = "") -> None:
    """Print a table; columns of figures stand to the right.

    Where they do not fit side by side it goes on below, with the columns of text that it begins with: no figure is
    broken.
    """
    if title:
        console.print(headed(f"\n{title}"))
    columns = [[line[index] for line in lines] for index in range(len(header))]
    for parted in (False, True):
        widths = [_figure_width(name, cells, parted=parted) for name, cells in zip(header, columns, strict=True)]
        named = [[*name.split(), *cells] for name, cells in zip(header, columns, strict=True)]
        rooms = [3 + (width or min(9, _longest(cells))) for width, cells in zip(widths, named, strict=True)]
        n_names = next((index for index, width in enumerate(widths) if index and width), len(widths))
        blocks = _blocks(rooms, n_names, console.width)
        if len(blocks) == 1:
            break
    for block in blocks:
        fixed = sum(rooms[index] for index in block) <= console.width
        own = [(header[index], widths[index]) for index in block]
        table = _table(own, [[line[index] for index in block] for line in lines], fixed=fixed)
        console.print(table, soft_wrap=False)


def _table(columns: Sequence[tuple[str, int | None]], lines: Sequence[Sequence[str]], *, fixed: bool) -> Table:
    """Return a table of columns by name and width, None for text; where widths are fixed they are kept to."""
    from rich.box import SIMPLE_HEAD
    from rich.table import Table
    from rich.text import Text

    table = Table(box=SIMPLE_HEAD, pad_edge=False)
    for name, width in columns:
        justify: JustifyMethod = "right" if width else "left"
        table.add_column(Text(name), justify=justify, overflow="fold", width=width if fixed else None)
    for line in lines:
        table.add_row(*(Text(cell) for cell in line))
    return table


def _blocks(rooms: Sequence[int], n_names: int, most: int) -> list[list[int]]:
    """Divide columns that take so many characters into tables of so many at most, each with the first columns."""
    names = list(range(n_names))
    own = most - sum(rooms[:n_names])
    blocks, left = [names], own
    for index in range(n_names, len(rooms)):
        if rooms[index] > left and len(blocks[-1]) > n_names:
            blocks.append(names)
            left = own
        blocks[-1] = [*blocks[-1], index]
        left -= rooms[index]
    return blocks


def _figure_width(name: str, cells: Sequence[str], *, parted: bool) -> int | None:
    """Return how wide a column of figures is unbroken, None for one of anything else.

    With `parted` the words of its header stand below one another.
    """
    if not cells or not all(cell[:1].isdigit() or cell == "–" for cell in cells):
        return None
    return max(_longest(cells), _longest(name.split() if parted else [name]))


def _longest(cells: Sequence[str]) -> int:
    """Return the characters of the longest line of some cells."""
    return max((len(line) for cell in cells for line in cell.split("\n")), default=0)


def best_validation(run: RunFolder, loss: float, step: int) -> str:
    """Return the loss of the best validation and its step, and by what it was the best where that is another figure."""
    from foldkit.runs import flat, read_run_sheet

    best_by = flat(read_run_sheet(run)).get("train.best_by", "loss")
    said = "best validation loss" if best_by == "loss" else f"best validation by {best_by.replace('_', ' ')}, of loss"
    return f"{said} {loss:.4f} at step {step}"


def short(text: str, most: int = 40) -> str:
    """Return a text as one line of at most so many characters."""
    line = " ".join(text.split())
    return line if len(line) <= most else f"{line[: most - 1]}…"
