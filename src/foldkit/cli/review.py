"""`foldkit review`: walk the rows one by one, keep, drop or edit."""

from __future__ import annotations

import json
from collections.abc import Mapping, Sequence
from pathlib import Path
from typing import TYPE_CHECKING

import click

from .common import open_sheet, out, pressed_key, sheet_options

if TYPE_CHECKING:
    from foldkit.work import Inputs

KEYS = {"k": "keep", "d": "drop", "e": "edit", "b": "back", "q": "quit"}


@click.command(epilog="Example: foldkit review --only-odd")
@sheet_options
@click.option("--only-odd", is_flag=True, help="Only the rows that the checks name.")
def review(sheet_file: Path, changes: tuple[str, ...], only_odd: bool) -> None:
    """Walk the rows one by one: keep, drop or edit. Go on any time; the source is never changed."""
    from foldkit.datasets import check_pairs, pairs_of
    from foldkit.formats import fingerprint_value
    from foldkit.rows.decisions import Decision, decide, read_decisions, undecided
    from foldkit.rows.tables import rows_of
    from foldkit.work import open_inputs
    from foldkit.work.inputs import decisions_path

    sheet = open_sheet(sheet_file, changes)
    path = decisions_path(sheet)
    inputs = open_inputs(sheet, decided=False)
    cells = dict(rows_of(inputs.table))
    todo = undecided(inputs.table, read_decisions(path))
    reasons: dict[int, list[str]] = {}
    if only_odd:
        findings = check_pairs(pairs_of(inputs.table, inputs.template), sheet.split.near)
        for finding in findings:
            for row in finding.rows:
                reasons.setdefault(row, []).append(f"{finding.name}: {finding.says}")
        todo = [row for row in todo if row in reasons]
    place = 0
    while place < len(todo):
        row = todo[place]
        _show(inputs, row, cells[row], f"{place + 1} of {len(todo)}", reasons.get(row, []))
        choice = KEYS.get(pressed_key(), "")
        if choice == "quit":
            break
        if choice == "back":
            place = max(0, place - 1)
        elif choice == "edit":
            edited = _edited(cells[row])
            if edited is not None:
                decide(path, Decision(row, fingerprint_value(cells[row]), "edit", edited))
                place += 1
        elif choice:
            decide(path, Decision(row, fingerprint_value(cells[row]), choice))
            place += 1
    made = read_decisions(path).values()
    counts = ", ".join(f"{sum(d.choice == name for d in made)} {name}" for name in ("keep", "drop", "edit"))
    out().print(f"decisions: {counts}; {len(todo) - place} rows to go; they stand in {path}", soft_wrap=True)


def _show(inputs: Inputs, row: int, cells: Mapping[str, str], where: str, reasons: Sequence[str]) -> None:
    from rich.table import Table
    from rich.text import Text

    console = out()
    if console.is_terminal:
        console.clear()
    console.print(f"[bold]row {row}[/bold]  {where}\n")
    used = inputs.template.slots()
    for reason in reasons:
        console.print(f"! {reason}", markup=False)
    table = Table.grid(padding=(0, 2))
    table.add_column(justify="right")
    for name, text in cells.items():
        table.add_row(Text(name, style="cyan" if name in used else "dim"), Text(text))
    console.print(table)
    console.print("\n[bold]k[/bold]eep  [bold]d[/bold]rop  [bold]e[/bold]dit  [bold]b[/bold]ack  [bold]q[/bold]uit")


def _edited(cells: Mapping[str, str]) -> dict[str, str] | None:
    """Let the person's editor change the cells as JSON; None when nothing was changed or it is no longer JSON."""
    text = click.edit(json.dumps(dict(cells), indent=2, ensure_ascii=False), extension=".json")
    try:
        values = json.loads(text) if text else None
    except ValueError as error:
        click.echo(f"not kept, this is no JSON: {error}", err=True)
        return None
    if not isinstance(values, dict) or set(values) != set(cells):
        return None
    return {name: str(value) for name, value in values.items() if str(value) != cells[name]}
