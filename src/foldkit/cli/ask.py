"""`foldkit ask`: a question to the adapter, or to its base."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING

import click

from .common import find_run, open_sheet, out, sheet_options

if TYPE_CHECKING:
    from foldkit.work import Asked


@click.command(epilog='Example: foldkit ask "Wind west, force four, glass steady" --slot station="Low Pell" --both')
@click.argument("text", required=False, default="")
@sheet_options
@click.option("--slot", "slots", multiple=True, metavar="NAME=VALUE", help="Fill a slot of the template.")
@click.option("--run", "run_name", default="", help="The run whose adapter is asked; the newest by default.")
@click.option("--adapter", "adapter_at", type=click.Path(path_type=Path), help="An adapter file instead of a run.")
@click.option("--base", "base_at", type=click.Path(path_type=Path), help="Where the adapter's base stands.")
@click.option("--base-only", is_flag=True, help="Ask the base without the adapter.")
@click.option("--both", is_flag=True, help="Ask the base and the adapter.")
@click.option("--max-tokens", type=click.IntRange(1), default=200, show_default=True)
def ask(
    text: str,
    sheet_file: Path,
    changes: tuple[str, ...],
    slots: tuple[str, ...],
    run_name: str,
    adapter_at: Path | None,
    base_at: Path | None,
    base_only: bool,
    both: bool,
    max_tokens: int,
) -> None:
    """Ask the adapter a question, in the template it was trained with."""
    from foldkit.work import open_asked

    filled = dict(_slot(value) for value in slots)
    file = adapter_at or find_run(open_sheet(sheet_file, changes), run_name).adapter
    asked = open_asked(file, base_at)
    row = asked.row(text, filled)
    answers = answers_of(asked, row, base=both or base_only, adapter=not base_only, max_tokens=max_tokens)
    for name, answer in answers.items():
        out().print(f"{name}: {answer}" if both else answer, markup=False, soft_wrap=True)


def answers_of(asked: Asked, row: dict[str, str], *, base: bool, adapter: bool, max_tokens: int) -> dict[str, str]:
    """Return the answers of base and adapter by name, those that are wanted."""
    wanted = [("base", False)] * base + [("adapter", True)] * adapter
    return {name: asked.answer(row, adapted=adapted, max_tokens=max_tokens).strip() for name, adapted in wanted}


def _slot(value: str) -> tuple[str, str]:
    name, sign, text = value.partition("=")
    if not sign:
        from foldkit.formats import UsageError

        raise UsageError("--slot", "slot", "name=value", value, 'for example station="Low Pell"')
    return name.strip(), text
