"""`foldkit look`: what stands in the rows, and how one looks in the template."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING

import click

from .common import open_sheet, out, sheet_options, short, show_table

if TYPE_CHECKING:
    from foldkit.rows import RowsSummary
    from foldkit.work import Inputs, Sheet


@click.command(epilog="Example: foldkit look --row 12")
@sheet_options
@click.option("--row", type=int, help="Show this row in the template (from 1).")
@click.option("--json", "as_json", is_flag=True, help="Print JSON for programs.")
def look(sheet_file: Path, changes: tuple[str, ...], row: int | None, as_json: bool) -> None:
    """Look at the rows: blanks, lengths, duplicates, and one row in the template."""
    from foldkit.rows import summarise
    from foldkit.work import open_inputs

    sheet = open_sheet(sheet_file, changes)
    inputs = open_inputs(sheet)
    summary = summarise(inputs.table)
    if as_json:
        import dataclasses
        import json

        click.echo(json.dumps(dataclasses.asdict(summary), ensure_ascii=False))
        return
    number = shown_row(inputs, row)
    show_summary(sheet, summary)
    show_row(inputs, number)


def show_summary(sheet: Sheet, summary: RowsSummary) -> None:
    """Print the columns and what is odd in them."""
    console = out()
    header = ["column", "blank", "distinct", "median length", "longest", "first"]
    lines = [
        [c.name, str(c.n_blank), str(c.n_distinct), str(c.median_length), str(c.longest), short(c.sample)]
        for c in summary.columns
    ]
    show_table(console, header, lines, f"{sheet.rows.source}: {summary.n_rows} rows")
    for sentence in summary.odd_cells:
        console.print(f"! {sentence}", markup=False)
    if summary.duplicates:
        rows = ", ".join(map(str, summary.duplicates[:10]))
        console.print(f"! {len(summary.duplicates)} rows repeat an earlier one: rows {rows}")


def shown_row(inputs: Inputs, wanted: int | None) -> int:
    """Return the row to show: the one that is wanted, or the first that can be used."""
    from foldkit.datasets.pairs import rows_of
    from foldkit.formats import UsageError

    rows = dict(rows_of(inputs.table))
    if wanted is not None and wanted not in rows:
        raise UsageError("--row", "row", f"1 to {len(rows)}", wanted, "choose one of these")
    whole = (n for n, row in rows.items() if all(row[slot] for slot in inputs.template.needed_slots(row)))
    return next(whole, 1) if wanted is None else wanted


def show_row(inputs: Inputs, number: int) -> None:
    """Print one row as turns in the base's markup, the learned tokens marked: in colour, or in 【 】 without it."""
    from rich.text import Text

    from foldkit.datasets.pairs import rows_of

    row = dict(rows_of(inputs.table))[number]
    blank = [slot for slot in inputs.template.needed_slots(row) if not row[slot]]
    console = out()
    if blank:
        console.print(f"row {number} will be set aside, blank: {', '.join(blank)}")
        return
    encoded = inputs.encoder.example(inputs.template.turns(row))
    console.print(f"row {number} in template {inputs.template.name}, {len(encoded.ids)} tokens; learned part marked:\n")
    text = Text()
    for learned, piece in _stretches(inputs, encoded.ids, encoded.learned):
        marked = piece if console.is_terminal or not learned else f"【{piece}】"
        text.append(marked, style="black on green" if learned else "")
    console.print(text)


def _stretches(inputs: Inputs, ids: tuple[int, ...], learned: tuple[bool, ...]) -> list[tuple[bool, str]]:
    import itertools

    tokenizer = inputs.side.tokenizer
    found = []
    for flag, group in itertools.groupby(zip(ids, learned, strict=True), key=lambda pair: pair[1]):
        found.append((flag, tokenizer.decode([token for token, _ in group], keep_control=True)))
    return found
