"""`foldkit demo`: the whole way on the data that ships."""

from __future__ import annotations

import sys
from pathlib import Path

import click

from .common import err, headed, open_sheet, out

QUESTION = (
    "Wind has gone round to the southwest, I'd call it five, gusting seven at the Stack, glass falling, "
    "can just see Low Pell, four miles. White water all round. 0600 reading."
)
STATION = "Gannet Stack"
_SLOT = f'--slot station="{STATION}" '


@click.command(epilog="Example: foldkit demo --folder try --set train.epochs=2")
@click.option("--folder", type=click.Path(path_type=Path), default=Path("pellam-sound"), show_default=True)
@click.option("--base", type=click.Path(path_type=Path), help="Another base: a folder or a .gguf file.")
@click.option("--set", "changes", multiple=True, metavar="SECTION.KEY=VALUE", help="Change one setting of the sheet.")
@click.option("--preferences", is_flag=True, help="On rows with a better and a worse reply each.")
def demo(folder: Path, base: Path | None, changes: tuple[str, ...], preferences: bool) -> None:
    """Go the whole way on sample data. Rows, template, split, training, curve, scores, one question."""
    import time

    from foldkit.answering import AnswerSettings
    from foldkit.demo import copy_demo
    from foldkit.rows import summarise
    from foldkit.work import build, check, open_asked, open_inputs

    from .build import show_dataset, show_findings
    from .look import show_row, show_summary, shown_row
    from .score import score_with_progress, show_scorecard
    from .train import show_run, train_with_progress

    began = time.perf_counter()
    own = (f"base.model='{base.resolve()}'",) if base else ()
    sheet = open_sheet(copy_demo(folder, preferences=preferences), (*own, *changes))
    _step("The rows and one of them in the template", "foldkit look")
    inputs = open_inputs(sheet)
    show_summary(sheet, summarise(inputs.table))
    show_row(inputs, shown_row(inputs, None))
    _step(f"The dataset: checked, {'split' if preferences else 'split by day'}, tokenised", "foldkit build")
    dataset = build(sheet, inputs)
    show_dataset(dataset)
    show_findings(check(sheet, inputs, dataset))
    _step("Training", "foldkit train")
    run = train_with_progress(sheet)
    if show_run(run) == "stopped":
        sys.exit(130)
    _step("Scores on rows that training never saw", "foldkit score")
    show_scorecard(score_with_progress(sheet, run))
    asked = open_asked(run.adapter, device=sheet.base.device)
    question, slots = (f"{STATION}: {QUESTION}", {}) if preferences else (QUESTION, {"station": STATION})
    _step("A question of our own wording", f'foldkit ask --both {"" if preferences else _SLOT}"{question[:15]}…"')
    row = asked.row(question, slots)
    out().print(f"keeper : {question}")
    for name, adapted in (("base", False), ("adapter", True)):
        answer = asked.answer(row, AnswerSettings(60), adapted=adapted)
        out().print(f"{name:<7}: {' / '.join(answer.split(chr(10)))}")
    err().print(f"\nAll of it stands in {run.path}; {time.perf_counter() - began:.0f} s")


def _step(title: str, command: str) -> None:
    out().print(headed(f"\n{title}", f"  {command}", "dim"))
