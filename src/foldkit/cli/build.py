"""`foldkit build`: checks, splits, tokenises and stores the rows."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING

import click

from .common import open_sheet, out, sheet_options, show_table

if TYPE_CHECKING:
    from foldkit.datasets import Dataset


@click.command(epilog="Example: foldkit build --set train.window=1024")
@sheet_options
def build(sheet_file: Path, changes: tuple[str, ...]) -> None:
    """Build the dataset: every row rendered, tokenised, and in its part or set aside with the reason."""
    from foldkit.work import build as build_dataset

    sheet = open_sheet(sheet_file, changes)
    show_dataset(build_dataset(sheet))
    out().print(f"built in {sheet.path('built')}", soft_wrap=True)


def show_dataset(dataset: Dataset) -> None:
    """Print counts by part, and what was set aside."""
    console = out()
    header = ["part", "rows", "tokens", "learned tokens", "learned share", "longest"]
    lines = []
    for part, n in dataset.counts().items():
        share = f"{n['learned'] / n['tokens']:.1%}" if n["tokens"] else "–"
        lines.append([part, str(n["rows"]), f"{n['tokens']:,}", f"{n['learned']:,}", share, str(n["longest"])])
    show_table(console, header, lines, "dataset")
    for row in dataset.set_aside[:10]:
        console.print(f"set aside: row {row.row}, {row.reason}", markup=False)
    if len(dataset.set_aside) > 10:
        console.print(f"set aside: {len(dataset.set_aside) - 10} more rows, all in built/set_aside.jsonl")
    for note in dataset.notes:
        console.print(note, markup=False)
