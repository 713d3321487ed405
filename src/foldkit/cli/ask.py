"""`foldkit ask`: a question to the adapter, or to its base."""

from __future__ import annotations

from pathlib import Path

import click

from .common import find_run, open_sheet, sheet_options


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
@click.option("--temperature", type=float, default=0.0, help="0 takes the likeliest token each time.")
@click.option("--seed", type=int, default=0, help="Seed of a sampled answer.")
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
    temperature: float,
    seed: int,
) -> None:
    """Ask the adapter a question, in the template it was trained with."""
    from foldkit.models import Sampling
    from foldkit.work import open_asked

    sampling = Sampling(temperature, seed)
    filled = dict(_slot(value) for value in slots)
    file = adapter_at or find_run(open_sheet(sheet_file, changes), run_name).adapter
    asked = open_asked(file, base_at)
    row = asked.row(text, filled)
    wanted = [("base", False)] * (both or base_only) + [("adapter", True)] * (not base_only)
    for name, adapted in wanted:
        click.echo(f"{name}: " if both else "", nl=False)
        for piece in asked.pieces(row, adapted=adapted, max_tokens=max_tokens, sampling=sampling):
            click.echo(piece, nl=False)
        click.echo()


def _slot(value: str) -> tuple[str, str]:
    name, sign, text = value.partition("=")
    if not sign:
        from foldkit.formats import UsageError

        raise UsageError("--slot", "slot", "name=value", value, 'for example station="Low Pell"')
    return name.strip(), text
