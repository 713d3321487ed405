"""`foldkit curves`: a picture of one or several runs."""

from __future__ import annotations

from pathlib import Path

import click

from .common import NewFile, find_runs, open_sheet, other_losses, out, sheet_options


@click.command(epilog="Example: foldkit curves run-001 run-002 -o both.png")
@click.argument("runs", nargs=-1)
@sheet_options
@click.option("-o", "--out", "picture", type=NewFile(), help="A .png, .svg or .pdf file.")
@click.option("--across", default="steps", show_default=True, help="What stands across: or tokens, epochs, minutes.")
@click.option("--linear", is_flag=True, help="Losses on a plain axis, not a logarithmic one.")
def curves(
    runs: tuple[str, ...], sheet_file: Path, changes: tuple[str, ...], picture: Path | None, across: str, linear: bool
) -> None:
    """Draw the losses of runs, and say what they show. RUNS is the newest by default; rate and norm stand below."""
    from foldkit.curves import FIGURES, diagnose, save_picture
    from foldkit.runs import read_log, summarise_run

    found = find_runs(open_sheet(sheet_file, changes), runs)
    picture = picture or (found[0].curve if len(found) == 1 else Path("curves.png"))
    save_picture(found, picture, across=across, log=not linear)
    console = out()
    for run in found:
        before = f"{run.path.name}: " if len(found) > 1 else ""
        for said in diagnose(read_log(run.log, FIGURES), summarise_run(run).ended):
            console.print(f"! {before}{said}")
    if other := other_losses(found):
        console.print(f"! {other}")
    console.print(f"picture {picture}")
