"""`foldkit split`: which rows go to which part, and what leaks."""

from __future__ import annotations

from pathlib import Path

import click

from .common import open_sheet, out, sheet_options, show_table, shown_work


@click.command(epilog="Example: foldkit split --rows > parts.tsv")
@sheet_options
@click.option("--rows", "each", is_flag=True, help="Print every row's number and part, tab between.")
def split(sheet_file: Path, changes: tuple[str, ...], each: bool) -> None:
    """Show the split, and the rows of train that stand outside it too."""
    from foldkit.datasets.splitting import counts
    from foldkit.work import split as split_rows

    sheet = open_sheet(sheet_file, changes)
    with shown_work("split: every row against all others"):
        found = split_rows(sheet)
    if each:
        click.echo("\n".join(f"{row}\t{part}" for row, part in found.parts.items()))
        return
    console = out()
    lines = [[part, f"{n:,}", f"{n / len(found.parts):.1%}"] for part, n in counts(list(found.parts)).items()]
    together = f", rows of one {sheet.split.group} together" if sheet.split.group else ""
    told = f", by column {sheet.split.column}" if sheet.split.column else ""
    show_table(console, ["part", "rows", "share"], lines, f"split, seed {sheet.split.seed}{told}{together}")
    for leak in found.leaks[:10]:
        console.print(f"! {leak}")
    if len(found.leaks) > 10:
        console.print(f"! and {len(found.leaks) - 10:,} more")
    alone = f"; were rows split one by one: {len(found.leaks_ungrouped)}" if sheet.split.group else ""
    console.print(f"{'! ' if found.leaks else ''}rows outside train that stand in train too: {len(found.leaks)}{alone}")
