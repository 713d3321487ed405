"""`foldkit review`: walk the rows one by one, keep, drop or edit."""

from __future__ import annotations

import json
from collections.abc import Mapping, Sequence
from pathlib import Path
from typing import TYPE_CHECKING

import click

from .common import headed, open_sheet, out, pressed_key, sheet_options

if TYPE_CHECKING:
    from foldkit.work import Inputs

KEYS = {"k": "keep", "d": "drop", "e": "edit", "b": "back", "q": "quit"}


@click.command(epilog="Example: foldkit review --only-odd")
@sheet_options
@click.option("--only-odd", is_flag=True, help="Only the rows that the checks name.")
def review(sheet_file: Path, changes: tuple[str, ...], only_odd: bool) -> None:
    """Walk the rows one by one: keep, drop or edit. Go on any time; the source is never changed."""
    from foldkit.rows.decisions import Decision, decide, marks, read_decisions
    from foldkit.rows.tables import rows_of
    from foldkit.work import open_inputs
    from foldkit.work.inputs import decisions_path

    sheet = open_sheet(sheet_file, changes)
    path = decisions_path(sheet)
    inputs = open_inputs(sheet, decided=False)
    cells, marked, made = dict(rows_of(inputs.table)), marks(inputs.table), read_decisions(path)
    todo = [row for row, mark in marked.items() if mark not in made]
    reasons = _reasons(inputs) if only_odd else {}
    if only_odd:
        todo = [row for row in todo if row in reasons]
    place, drafts, problem = 0, dict[int, str](), ""
    while place < len(todo):
        row = todo[place]
        _show(inputs, row, cells[row], f"{place + 1} of {len(todo)}", [*reasons.get(row, []), problem])
        choice, edited, problem = KEYS.get(pressed_key(), ""), dict[str, str](), ""
        if choice == "quit":
            break
        if choice == "back":
            place = max(0, place - 1)
            continue
        if choice == "edit":
            drafts[row] = _edit(drafts.get(row) or json.dumps(cells[row], indent=2, ensure_ascii=False))
            edited, problem = _changed(cells[row], drafts[row])
        if edited or choice in ("keep", "drop"):
            decide(path, Decision(row, marked[row], choice, edited))
            place += 1
    made = read_decisions(path)
    counts = ", ".join(f"{sum(d.choice == name for d in made.values())} {name}" for name in ("keep", "drop", "edit"))
    out().print(f"decisions: {counts}; {len(todo) - place} rows to go; they stand in {path}")


def _reasons(inputs: Inputs) -> dict[int, list[str]]:
    """Return what the checks say of each row that they name."""
    from foldkit.datasets import check_pairs, pairs_of

    reasons: dict[int, list[str]] = {}
    for finding in check_pairs(pairs_of(inputs.table, inputs.template), inputs.sheet.split.near):
        for row in finding.rows:
            reasons.setdefault(row, []).append(f"{finding.name}: {finding.says}")
    return reasons


def _show(inputs: Inputs, row: int, cells: Mapping[str, str], where: str, reasons: Sequence[str]) -> None:
    from rich.table import Table
    from rich.text import Text

    console = out()
    if console.is_terminal:
        console.clear()
    console.print(headed(f"row {row}", f"  {where}\n"))
    used = inputs.template.slots()
    for reason in filter(None, reasons):
        console.print(f"! {reason}")
    table = Table.grid(padding=(0, 2))
    table.add_column(justify="right")
    for name, text in cells.items():
        table.add_row(Text(name, style="cyan" if name in used else "dim"), Text(text))
    console.print(table, soft_wrap=False)
    keys = "\n[bold]k[/bold]eep  [bold]d[/bold]rop  [bold]e[/bold]dit  [bold]b[/bold]ack  [bold]q[/bold]uit"
    console.print(keys, markup=True)


def _edit(text: str) -> str:
    """Let the person's editor change a text; return it as it is where nothing was written."""
    return click.edit(text, extension=".json") or text


def _changed(cells: Mapping[str, str], text: str) -> tuple[dict[str, str], str]:
    """Return the cells that an edited row changes, and what is wrong with it, "" for nothing."""
    from foldkit.formats import json_value

    try:
        values = json_value(text)
    except ValueError as error:
        return {}, f"not kept: expected JSON ({error}); e goes on with it"
    if (
        not isinstance(values, dict)
        or set(values) != set(cells)
        or not all(isinstance(v, str) for v in values.values())
    ):
        return {}, f"not kept: expected a text for each of {', '.join(cells)}; e goes on with it"
    return {name: text for name, text in values.items() if text != cells[name]}, ""
