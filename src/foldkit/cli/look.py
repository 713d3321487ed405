"""`foldkit look`: what stands in the rows, and how one looks in the template."""

from __future__ import annotations

import itertools
import random
from pathlib import Path
from typing import TYPE_CHECKING

import click

from foldkit.formats.errors import listed

from .common import NewFile, headed, open_sheet, out, refuse_together, sheet_options, short, show_table, shown_work

if TYPE_CHECKING:
    from foldkit.datasets import Coded, Example
    from foldkit.rows import RowsSummary
    from foldkit.work import Inputs, Sheet

# So many rows are encoded at most, to print how long they are, and to draw it.
_PRINTED, _DRAWN = 2_000, 100_000


@click.command(epilog="Example: foldkit look --row 12")
@sheet_options
@click.option("--row", type=int, help="Show this row in the template (from 1).")
@click.option("--random", "by_chance", is_flag=True, help="Show a row drawn by chance in the template.")
@click.option("--template", "lint", is_flag=True, help="Hold the template against the rows and the base's markup.")
@click.option("--figure", type=NewFile(), help="Draw the lengths of examples into this picture file.")
@click.option("--json", "as_json", is_flag=True, help="Print JSON for programs.")
def look(
    sheet_file: Path,
    changes: tuple[str, ...],
    row: int | None,
    by_chance: bool,
    lint: bool,
    figure: Path | None,
    as_json: bool,
) -> None:
    """Look at the rows, and at one of them in the template. Blanks, lengths, duplicates and scripts are told."""
    from foldkit.rows import summarise
    from foldkit.work import open_inputs, token_lengths

    refuse_together(
        {"--row": row is not None, "--random": by_chance, "--template": lint, "--figure": figure, "--json": as_json}
    )
    sheet = open_sheet(sheet_file, changes)
    inputs = open_inputs(sheet)
    if lint:
        show_lint(inputs)
        return
    if figure:
        draw_figure(inputs, figure)
        return
    with shown_work("read the rows"):
        summary = summarise(inputs.table)
    if as_json:
        import dataclasses
        import json

        click.echo(json.dumps(dataclasses.asdict(summary), ensure_ascii=False))
        return
    if by_chance:
        row = random.choice(inputs.table.index.tolist())
    check_row(inputs, row)
    show_summary(sheet, summary)
    shown = shown_row(inputs, row)
    show_lengths(
        [whole for whole, _ in token_lengths(inputs, _PRINTED)], sheet.train.window, _sampled(inputs, _PRINTED)
    )
    show_row(inputs, shown)


def show_lint(inputs: Inputs) -> None:
    """Print what is odd in the template."""
    from foldkit.work import lint

    from .build import show_findings

    out().print(f"template {inputs.template.name} in the markup of {inputs.sheet.base.model}")
    show_findings(lint(inputs), none="nothing odd in the template")


def draw_figure(inputs: Inputs, path: Path) -> None:
    """Draw how long the examples are, with the window."""
    from foldkit.curves import save_lengths
    from foldkit.work import token_lengths

    lengths = token_lengths(inputs, _DRAWN)
    sheet = inputs.sheet
    title = f"{sheet.rows.source} in tokens of {sheet.base.model}{_sampled(inputs, _DRAWN)}"
    save_lengths([whole for whole, _ in lengths], [n for _, n in lengths], sheet.train.window, title, path)
    out().print(f"drawn into {path}")


def _sampled(inputs: Inputs, most: int) -> str:
    """Say of how many rows something is told, "" for all of them."""
    return f", of {most:,} rows from all over the file" if len(inputs.table) > most else ""


def show_summary(sheet: Sheet, summary: RowsSummary) -> None:
    """Print the columns and what is odd in them."""
    console = out()
    room = max(12, console.width - 58)
    header = ["column", "blank", "distinct", "median length", "longest", "first"]
    lines = [
        [c.name, *map(str, (c.n_blank, c.n_distinct, c.median_length, c.longest)), short(c.sample, room)]
        for c in summary.columns
    ]
    show_table(console, header, lines, f"{sheet.rows.source}: {summary.n_rows:,} rows")
    for sentence in summary.odd_cells:
        console.print(f"! {sentence}")
    if len(summary.scripts) > 1:
        shares = ", ".join(f"{script} {share:.1%}" for script, share in list(summary.scripts.items())[:5])
        console.print(f"scripts: {shares}")
    if summary.duplicates:
        repeat, rows = ("rows repeat", "rows") if len(summary.duplicates) > 1 else ("row repeats", "row")
        console.print(f"! {len(summary.duplicates):,} {repeat} an earlier one: {rows} {listed(summary.duplicates)}")


def show_lengths(lengths: list[int], window: int, sampled: str) -> None:
    """Print how long the examples are in tokens, and which would be over the window."""
    console = out()
    if not lengths:
        return
    step = max(1, -(-(max(lengths) + 1) // 10))
    bins = [sum(1 for n in lengths if start <= n < start + step) for start in range(0, max(lengths) + 1, step)]
    over = sum(1 for n in lengths if n > window)
    console.print(headed("\nexamples in tokens", f"{sampled}, window {window}, {over} over it"))
    for index, count in enumerate(bins):
        if count:
            low, high = index * step, (index + 1) * step - 1
            bar = "█" * max(1, round(40 * count / max(bins)))
            console.print(f" {low:>5}–{high:<5} {count:>6} {bar}{'  over' if low > window else ''}")


def check_row(inputs: Inputs, wanted: int | None) -> None:
    """Refuse a row that is not there."""
    from foldkit.formats import UsageError

    table = inputs.table
    if wanted is not None and wanted not in table.index:
        allowed = f"a row of the source, {table.index.min()} to {table.index.max()}"
        raise UsageError("--row", "row", allowed, wanted, "choose one of these")


def shown_row(inputs: Inputs, wanted: int | None) -> Coded:
    """Return the row that is wanted as building makes it, or without a number the first that can be used."""
    from foldkit.datasets import code_rows

    table = inputs.table
    return code_rows(table.head(200) if wanted is None else table.loc[[wanted]], inputs.coder)


def show_row(inputs: Inputs, coded: Coded) -> None:
    """Print a row as turns in the base's markup, the learned tokens marked: in colour, or in 【 】 without it."""
    from rich.text import Text

    console = out()
    if not len(coded.examples):
        aside = coded.set_aside[0]
        console.print(f"row {aside.row} will be set aside: {aside.reason}")
        return
    example = coded.examples[0]
    where = f" in template {inputs.template.name}, {len(example.ids)} tokens; the learned part is marked\n"
    console.print(headed(f"\nrow {example.row}", where))
    text = Text()
    for learned, piece in _stretches(inputs, example):
        marked = piece if console.is_terminal or not learned else f"【{piece}】"
        text.append(marked, style="bold green" if learned else "")
    console.print(text)


def _stretches(inputs: Inputs, example: Example) -> list[tuple[bool, str]]:
    ends = [0, *(end for span in example.spans for end in span)]
    pieces = [example.ids[start:end] for start, end in itertools.pairwise([*ends, len(example.ids)])]
    decode = inputs.side.tokenizer.decode
    return [(index % 2 == 1, decode(piece, keep_control=True)) for index, piece in enumerate(pieces) if piece]
