"""`foldkit look`: what stands in the rows, and how one looks in the template."""

from __future__ import annotations

import itertools
import random
from pathlib import Path
from typing import TYPE_CHECKING

import click

from .common import open_sheet, out, sheet_options, short, show_table

if TYPE_CHECKING:
    from foldkit.rows import RowsSummary
    from foldkit.tokens import Encoded
    from foldkit.work import Inputs, Sheet


@click.command(epilog="Example: foldkit look --row 12")
@sheet_options
@click.option("--row", type=int, help="Show this row in the template (from 1).")
@click.option("--random", "by_chance", is_flag=True, help="Show a row drawn by chance in the template.")
@click.option("--template", "lint", is_flag=True, help="Hold the template against the rows and the base's markup.")
@click.option("--figure", type=click.Path(path_type=Path), help="Draw the lengths of examples into this picture file.")
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
    """Look at the rows: blanks, lengths, duplicates, scripts, and one row in the template."""
    from foldkit.rows import summarise
    from foldkit.work import open_inputs, token_lengths

    sheet = open_sheet(sheet_file, changes)
    inputs = open_inputs(sheet)
    if lint:
        show_lint(inputs)
        return
    if figure:
        draw_figure(inputs, figure)
        return
    summary = summarise(inputs.table)
    if as_json:
        import dataclasses
        import json

        click.echo(json.dumps(dataclasses.asdict(summary), ensure_ascii=False))
        return
    number = shown_row(inputs, random.choice(list(inputs.table.index)) if by_chance and row is None else row)
    show_summary(sheet, summary)
    show_lengths([whole for whole, _ in token_lengths(inputs)], sheet.train.window)
    show_row(inputs, number)


def show_lint(inputs: Inputs) -> None:
    """Print what is odd in the template."""
    from foldkit.work import lint

    from .build import show_findings

    out().print(
        f"template {inputs.template.name} in the markup of {inputs.sheet.base.model}", markup=False, soft_wrap=True
    )
    show_findings(lint(inputs), none="nothing odd in the template")


def draw_figure(inputs: Inputs, path: Path) -> None:
    """Draw how long the examples are, with the window."""
    from foldkit.curves import save_lengths
    from foldkit.work import token_lengths

    lengths = token_lengths(inputs, most=100_000)
    sheet = inputs.sheet
    title = f"{sheet.rows.source} in tokens of {sheet.base.model}"
    save_lengths([whole for whole, _ in lengths], [n for _, n in lengths], sheet.train.window, title, path)
    out().print(f"drawn into {path}", soft_wrap=True)


def show_summary(sheet: Sheet, summary: RowsSummary) -> None:
    """Print the columns and what is odd in them."""
    console = out()
    room = max(12, console.width - 58)
    header = ["column", "blank", "distinct", "median length", "longest", "first"]
    lines = [
        [c.name, *map(str, (c.n_blank, c.n_distinct, c.median_length, c.longest)), short(c.sample, room)]
        for c in summary.columns
    ]
    show_table(console, header, lines, f"{sheet.rows.source}: {summary.n_rows} rows")
    for sentence in summary.odd_cells:
        console.print(f"! {sentence}", markup=False)
    if len(summary.scripts) > 1:
        shares = ", ".join(f"{script} {share:.1%}" for script, share in list(summary.scripts.items())[:5])
        console.print(f"scripts: {shares}", soft_wrap=True)
    if summary.duplicates:
        rows = ", ".join(map(str, summary.duplicates[:10]))
        console.print(f"! {len(summary.duplicates)} rows repeat an earlier one: rows {rows}")


def show_lengths(lengths: list[int], window: int) -> None:
    """Print how long the examples are in tokens, and which would be over the window."""
    console = out()
    if not lengths:
        return
    step = max(1, -(-(max(lengths) + 1) // 10))
    bins = [sum(1 for n in lengths if start <= n < start + step) for start in range(0, max(lengths) + 1, step)]
    over = sum(1 for n in lengths if n > window)
    console.print(f"\n[bold]examples in tokens[/bold], window {window}, {over} over it", soft_wrap=True)
    for index, count in enumerate(bins):
        if count:
            low, high = index * step, (index + 1) * step - 1
            bar = "█" * max(1, round(40 * count / max(bins)))
            console.print(f" {low:>5}–{high:<5} {count:>6} {bar}{'  over' if low > window else ''}", soft_wrap=True)


def shown_row(inputs: Inputs, wanted: int | None) -> int:
    """Return the row to show: the one that is wanted, or the first that can be used."""
    from foldkit.formats import UsageError
    from foldkit.rows.tables import rows_of

    rows = dict(rows_of(inputs.table))
    if wanted is not None and wanted not in rows:
        raise UsageError("--row", "row", f"1 to {len(rows)}", wanted, "choose one of these")
    whole = (n for n, row in rows.items() if all(row[slot] for slot in inputs.template.needed_slots(row)))
    return next(whole, 1) if wanted is None else wanted


def show_row(inputs: Inputs, number: int) -> None:
    """Print one row as turns in the base's markup, the learned tokens marked: in colour, or in 【 】 without it."""
    from rich.text import Text

    from foldkit.rows.tables import rows_of

    row = dict(rows_of(inputs.table))[number]
    blank = [slot for slot in inputs.template.needed_slots(row) if not row[slot]]
    console = out()
    if blank:
        console.print(f"row {number} will be set aside, blank: {', '.join(blank)}")
        return
    encoded = inputs.encoder.example(inputs.template.turns(row))
    heading = f"[bold]row {number}[/bold] in template {inputs.template.name}, {len(encoded.ids)} tokens"
    console.print(f"\n{heading}; the learned part is marked\n", soft_wrap=True)
    text = Text()
    for learned, piece in _stretches(inputs, encoded):
        marked = piece if console.is_terminal or not learned else f"【{piece}】"
        text.append(marked, style="bold green" if learned else "")
    console.print(text)


def _stretches(inputs: Inputs, encoded: Encoded) -> list[tuple[bool, str]]:
    ends = [0, *(end for span in encoded.spans for end in span)]
    pieces = [encoded.ids[start:end] for start, end in itertools.pairwise([*ends, len(encoded.ids)])]
    decode = inputs.side.tokenizer.decode
    return [(index % 2 == 1, decode(piece, keep_control=True)) for index, piece in enumerate(pieces) if piece]
