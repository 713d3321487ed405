"""`foldkit ask`: a question to the adapter, or to its base."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING

import click

from .common import find_run, open_sheet, sheet_options

if TYPE_CHECKING:
    from foldkit.models import Sampling
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
@click.option("--temperature", type=float, default=0.0, help="0 takes the likeliest token each time.")
@click.option("--top-k", type=int, default=0, help="Keep this many of the likeliest tokens.")
@click.option("--top-p", type=float, default=1.0, help="Keep the fewest tokens whose shares come to this.")
@click.option("--min-p", type=float, default=0.0, help="Keep tokens with this part of the likeliest one's share.")
@click.option("--repetition", type=float, default=1.0, help="Above 1, what was there before becomes less likely.")
@click.option("--seed", type=int, default=0, help="Seed of a sampled answer.")
@click.option("--stop", "stops", multiple=True, metavar="TEXT", help="End the answer before this text.")
@click.option("--choose", "options", multiple=True, metavar="ANSWER", help="Give the likeliest of these answers.")
@click.option("--file", "source", type=click.Path(path_type=Path), help="Answer every row of this JSON-lines file.")
@click.option("--out", type=click.Path(path_type=Path), default=Path("answers.jsonl"), show_default=True)
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
    top_k: int,
    top_p: float,
    min_p: float,
    repetition: float,
    seed: int,
    stops: tuple[str, ...],
    options: tuple[str, ...],
    source: Path | None,
    out: Path,
) -> None:
    """Ask the adapter a question, in the template it was trained with."""
    from foldkit.models import Sampling
    from foldkit.work import open_asked

    sampling = Sampling(temperature, seed, top_k, top_p, min_p, repetition)
    filled = dict(_slot(value) for value in slots)
    file = adapter_at or find_run(open_sheet(sheet_file, changes), run_name).adapter
    asked = open_asked(file, base_at)
    if source:
        _answer_file(asked, source, out, max_tokens, sampling, stops)
        return
    row = asked.row(text, filled)
    wanted = [("base", False)] * (both or base_only) + [("adapter", True)] * (not base_only)
    for name, adapted in wanted:
        click.echo(f"{name}: " if both else "", nl=False)
        if options:
            click.echo(asked.choice(row, options, adapted=adapted))
            continue
        try:
            for piece in asked.pieces(row, adapted=adapted, max_tokens=max_tokens, sampling=sampling, stops=stops):
                click.echo(piece, nl=False)
        finally:  # what came before an interrupt stays on a line of its own
            click.echo()


def _answer_file(
    asked: Asked, source: Path, out: Path, max_tokens: int, sampling: Sampling, stops: tuple[str, ...]
) -> None:
    from foldkit.work import answer_file

    for done, total in answer_file(asked, source, out, max_tokens=max_tokens, sampling=sampling, stops=stops):
        click.echo(f"{done} of {total}", err=True)
    click.echo(f"answers of base and adapter in {out}")


def _slot(value: str) -> tuple[str, str]:
    name, sign, text = value.partition("=")
    if not sign:
        from foldkit.formats import UsageError

        raise UsageError("--slot", "slot", "name=value", value, 'for example station="Low Pell"')
    return name.strip(), text
