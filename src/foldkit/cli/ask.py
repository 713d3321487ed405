"""`foldkit ask`: a question to the adapter, or to its base; a file of them; or a conversation."""

from __future__ import annotations

import functools
import math
from collections.abc import Sequence
from pathlib import Path
from typing import TYPE_CHECKING

import click

from foldkit.models.threads import giving_way

from .common import NewFile, find_run, open_sheet, refuse_beside, refuse_together, sheet_options

if TYPE_CHECKING:
    import pandas as pd

    from foldkit.answering import AnswerSettings
    from foldkit.work import Asked


@click.command(epilog='Example: foldkit ask "Wind west" --slot station="Low Pell" --both')
@click.argument("text", required=False, default="")
@sheet_options
@click.option("--slot", "slots", multiple=True, metavar="NAME=VALUE", help="Fill a slot of the template.")
@click.option(
    "--adapter",
    "adapters",
    multiple=True,
    metavar="RUN|FILE[=WEIGHT]",
    help="By default the newest run's; several add up.",
)
@click.option("--base", "base_at", type=click.Path(path_type=Path), help="Where the adapter's base stands.")
@click.option("--base-only", is_flag=True, help="Ask the base without the adapter.")
@click.option("--both", is_flag=True, help="Ask the base and the adapter.")
@click.option("--max-tokens", type=click.IntRange(1), default=200, show_default=True)
@click.option("--temperature", type=float, default=0.0, help="0 takes the likeliest token each time.")
@click.option("--top-k", type=int, default=0, help="Keep this many of the likeliest tokens.")
@click.option("--top-p", type=float, default=1.0, help="Keep the fewest tokens with this share in all.")
@click.option("--min-p", type=float, default=0.0, help="Keep tokens this likely beside the likeliest.")
@click.option("--repetition", type=float, default=1.0, help="Above 1, what was there becomes less likely.")
@click.option("--seed", type=int, default=0, help="Seed of a sampled answer.")
@click.option("--answers", "n_answers", type=click.IntRange(1), default=1, help="So many answers to each question.")
@click.option("--stop", "stops", multiple=True, metavar="TEXT", help="End the answer before this text.")
@click.option("--choose", "options", multiple=True, metavar="ANSWER", help="Give the likeliest of these answers.")
@click.option(
    "--file",
    "source",
    type=click.Path(path_type=Path),
    help="Answer each row of a file; --slot fills blanks.",
)
@click.option("--out", type=NewFile(), default=Path("answers.jsonl"), show_default=True)
def ask(
    text: str,
    sheet_file: Path,
    changes: tuple[str, ...],
    slots: tuple[str, ...],
    adapters: tuple[str, ...],
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
    n_answers: int,
    stops: tuple[str, ...],
    options: tuple[str, ...],
    source: Path | None,
    out: Path,
) -> None:
    """Ask the adapter, in its own template. Without a question, converse."""
    from foldkit.answering import AnswerSettings
    from foldkit.formats import UsageError
    from foldkit.models import Sampling
    from foldkit.work import answer_rows, open_asked, open_asked_base

    refuse_together({"--base-only": base_only, "--both": both})
    refuse_together({"--choose": options, "--answers": n_answers > 1})
    refuse_together({"--file": source, "a question": text})
    if n_answers > 1 and temperature == 0:
        raise UsageError(
            "--answers", "count", "1 at temperature 0, where all are alike", n_answers, "--temperature 0.8"
        )
    sampling = Sampling(temperature, seed, top_k, top_p, min_p, repetition)
    settings = AnswerSettings(max_tokens, sampling, stops)
    filled = dict(slot_of(value) for value in slots)
    find = functools.partial(_adapter_files, sheet_file, changes)
    if base_only and not (adapters or base_at):
        asked = open_asked_base(open_sheet(sheet_file, changes))
    else:
        asked = open_asked(find(adapters or ("",)), base_at, _device(sheet_file, changes))
    wanted = ("base",) * (both or base_only) + ("adapter",) * (not base_only)
    if source:
        questions = _read_questions(asked, source, filled)
        for done, total in answer_rows(asked, questions, out, settings, wanted, n_answers=n_answers, options=options):
            click.echo(f"{done} of {total}", err=True)
        click.echo(f"answers of {' and '.join(wanted)} in {out}")
    elif not text and asked.main_slot and asked.main_slot not in filled:
        refuse_beside("a conversation", {"--choose": options, "--answers": n_answers > 1})
        from .conversation import converse

        converse(asked, settings, filled, wanted, find)
    else:
        _answer(asked, asked.row(text, filled), settings, wanted, n_answers, options)


def _device(sheet_file: Path, changes: tuple[str, ...]) -> str:
    """Return the device that the sheet says; an adapter's file may stand without one."""
    return open_sheet(sheet_file, changes).base.device if sheet_file.exists() or changes else "auto"


@giving_way()
def _answer(
    asked: Asked,
    row: dict[str, str],
    settings: AnswerSettings,
    wanted: tuple[str, ...],
    n_answers: int,
    options: Sequence[str],
) -> None:
    """Answer one question: by one of the options, several times, or once, as the answer comes."""
    for name in wanted:
        adapted, mark = name == "adapter", f"{name}: " if len(wanted) > 1 else ""
        if options:
            click.echo(mark + asked.choice(row, options, adapted=adapted))
        elif n_answers > 1:
            for answer in asked.several([row], settings, n_answers, adapted=adapted)[0]:
                click.echo(mark + answer)
        else:
            click.echo(mark, nl=False)
            _show_as_it_comes(asked, row, settings, adapted=adapted)


def _show_as_it_comes(asked: Asked, row: dict[str, str], settings: AnswerSettings, *, adapted: bool) -> None:
    found = asked.pieces(row, settings, adapted=adapted)
    try:
        for piece in found:
            click.echo(piece, nl=False)
    finally:  # what came before an interrupt stays on a line of its own
        click.echo()
    if found.ended == "at its length":
        click.echo(f"(cut after {found.n_tokens} tokens: --max-tokens)", err=True)


def _read_questions(asked: Asked, source: Path, filled: dict[str, str]) -> pd.DataFrame:
    """Read a file of questions, and say which of its columns are not asked."""
    from foldkit.formats import listed
    from foldkit.work import read_questions

    questions = read_questions(asked, source, filled)
    read = {*asked.slots, *asked.reading.used(list(map(str, questions)))}
    if unread := [name for name in questions.columns if name not in read]:
        click.echo(f"the template does not read {listed(unread)}: kept beside the answers", err=True)
    return questions


def _adapter_files(sheet_file: Path, changes: tuple[str, ...], names: Sequence[str]) -> dict[Path, float]:
    """Return the adapter files of runs' names, or files, each with the weight that may stand after it."""
    found: dict[Path, float] = {}
    for name in names:
        at, sign, weight = name.rpartition("=")
        named = bool(sign) and _is_number(weight)
        at = at if named else name
        is_file = Path(at).is_file()
        path = Path(at) if is_file else find_run(open_sheet(sheet_file, changes), at, "--adapter").adapter
        found[path] = float(weight) if named else 1.0
    return found


def _is_number(text: str) -> bool:
    try:
        return math.isfinite(float(text))
    except ValueError:
        return False


def slot_of(value: str) -> tuple[str, str]:
    """Divide `name=value`; raises UsageError when there is no sign."""
    name, sign, text = value.partition("=")
    if not sign:
        from foldkit.formats import UsageError

        raise UsageError("--slot", "slot", "name=value", value, 'for example station="Low Pell"')
    return name.strip(), text
