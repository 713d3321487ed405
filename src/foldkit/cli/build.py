"""`foldkit build`: checks, splits, tokenises and stores the rows."""

from __future__ import annotations

import re
from pathlib import Path
from typing import TYPE_CHECKING

import click

from .common import built_with_count, open_to_build, out, sheet_options, short, show_table, shown_work

if TYPE_CHECKING:
    from foldkit.datasets import Dataset, Finding, SetAside
    from foldkit.work import Sheet

# How many rows are numbered of those that are alike, and how many reasons are told.
_ROWS, _REASONS = 8, 10


@click.command(epilog="Example: foldkit build --set train.window=1024")
@sheet_options
@click.option("--strict", is_flag=True, help="Stop with exit code 1 when the checks find anything.")
def build(sheet_file: Path, changes: tuple[str, ...], strict: bool) -> None:
    """Build the dataset: every row rendered, tokenised and checked. It is in its part, or set aside with the reason."""
    from foldkit.formats import FoldKitError
    from foldkit.work import check, open_inputs

    sheet = open_to_build(sheet_file, changes)
    inputs = open_inputs(sheet)
    dataset = built_with_count(sheet, inputs)
    show_dataset(dataset)
    show_padding(sheet, dataset)
    with shown_work("check: every row against all others"):
        findings = check(sheet, inputs, dataset)
    show_findings(findings)
    out().print(f"built in {sheet.path('built')}")
    if strict and (findings or dataset.set_aside):
        found = len(findings) + bool(dataset.set_aside)
        raise FoldKitError(f"--strict: kinds of findings above: {found}; mend the rows, or go on without --strict")


def show_findings(findings: list[Finding], none: str = "the checks found nothing odd") -> None:
    """Print what the checks found: how many rows, which, and one example."""
    from foldkit.formats import listed

    console = out()
    for finding in findings:
        rows = listed(finding.rows, _ROWS)
        count = f"{len(finding.rows)} × " if finding.rows else ""
        console.print(f"! {count}{finding.name}: {finding.says}" + (f"; rows {rows}" if rows else ""))
        if finding.example:
            console.print(f"    e.g. {short(finding.example, 90)!r}")
    if not findings:
        console.print(none)


def show_padding(sheet: Sheet, dataset: Dataset) -> None:
    """Print how much is computed in an epoch, and how much of it is padding, or would be without packing."""
    from foldkit.datasets import padding_share

    lengths, settings = dataset.parts["train"].lengths, sheet.train
    at_once = settings.batch if settings.micro_batch == "auto" else settings.n_micro
    padded = f"{padding_share(lengths, settings.batch, at_once, settings.seed):.1%} of what is computed"
    says = f"packed, none is padding; side by side it would be {padded}"
    if not settings.packing:
        says = f"side by side, padding is {padded}; with train.packing=true there is none"
    out().print(f"an epoch: {lengths.sum():,} tokens; {says}")


def show_dataset(dataset: Dataset) -> None:
    """Print counts by part, and what was set aside."""
    from foldkit.formats import listed

    console = out()
    header = ["part", "rows", "tokens", "learned tokens", "learned share", "longest"]
    lines = []
    for part, n in dataset.counts().items():
        share = f"{n['learned'] / n['tokens']:.1%}" if n["tokens"] else "–"
        lines.append([part, f"{n['rows']:,}", f"{n['tokens']:,}", f"{n['learned']:,}", share, str(n["longest"])])
    show_table(console, header, lines, "dataset")
    _show_set_aside(dataset)
    if dataset.unused:
        console.print(f"columns that nothing uses: {listed(dataset.unused)}")
    for note in dataset.notes:
        console.print(f"! {note}")


def _show_set_aside(dataset: Dataset) -> None:
    """Print the reasons for which rows are set aside, those that differ in numbers alone together."""
    from foldkit.formats import listed

    console = out()
    alike: dict[str, list[SetAside]] = {}
    for one in dataset.set_aside:
        alike.setdefault(re.sub(r"[\d,.]+", "", one.reason), []).append(one)
    for found in list(alike.values())[:_REASONS]:
        reason = found[0].reason + (" (the first)" if len({one.reason for one in found}) > 1 else "")
        rows = listed([one.row for one in found], _ROWS)
        console.print(f"set aside: {len(found):,} × {reason}; rows {rows}")
    if len(alike) > _REASONS or any(len(found) > _ROWS for found in alike.values()):
        console.print(f"set aside: {len(dataset.set_aside):,} in all, each with its reason in built/set_aside.jsonl")
