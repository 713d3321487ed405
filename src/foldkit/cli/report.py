"""`foldkit report`: one page about a run."""

from __future__ import annotations

from pathlib import Path

import click

from .common import NewFile, find_run, open_to_build, out, sheet_options


@click.command(epilog="Example: foldkit report run-001 -o for-the-desk.html")
@click.argument("run", default="")
@sheet_options
@click.option("-o", "--out", "page", type=NewFile(), help="Where to write it; the run's folder.")
def report(run: str, sheet_file: Path, changes: tuple[str, ...], page: Path | None) -> None:
    """Write one HTML page about a run. RUN is the newest by default; data, losses, scores, answers side by side."""
    from foldkit.formats import UsageError
    from foldkit.work import write_report

    if page and page.suffix.lower() not in (".html", ".htm"):
        raise UsageError("--out", "file", "a name that ends in .html", str(page), "give it that ending")
    written = write_report(find_run(open_to_build(sheet_file, changes), run), page)
    out().print(f"report {written}")
