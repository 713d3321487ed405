"""`foldkit new`: a starter sheet and template from a file of rows."""

from __future__ import annotations

import glob
import os
from pathlib import Path

import click

from .common import out, shown_work


@click.command(epilog="Example: foldkit new answers.csv")
@click.argument("file", type=click.Path(path_type=Path))
@click.option(
    "--folder",
    type=click.Path(path_type=Path, file_okay=False),
    help="Where to write; where the file is by default, of a pattern here.",
)
@click.option("--base", default="pellam", show_default=True, help="The base: a folder, a .gguf file, or pellam.")
@click.option("--encoding", default="utf-8", show_default=True, help="That of a file of text.")
@click.option("--question", default="", help="The column of what is asked, where another would be taken.")
@click.option("--answer", default="", help="The column of what is to be answered, likewise.")
def new(file: Path, folder: Path | None, base: str, encoding: str, question: str, answer: str) -> None:
    """Write a starter sheet and template for a file of rows.

    FILE may be a folder of such, or a pattern.
    """
    from foldkit.formats import InputError, UsageError
    from foldkit.work import start

    if not base:
        raise UsageError("--base", "base", "a folder, a .gguf file, or pellam", base, "leave it out for pellam")
    folder = folder or (Path() if glob.has_magic(str(file)) and not file.exists() else file.parent)
    source = Path(os.path.relpath(file, folder)).as_posix()
    at = base if base == "pellam" else Path(os.path.relpath(base, folder)).as_posix()
    try:
        with shown_work("read the rows"):
            started = start(source, folder, at, encoding, question=question, answer=answer)
    except InputError as error:
        if error.what != "encoding" or error.where == "[rows]":
            raise
        todo = "give --encoding, for example cp1252 or utf-16"
        raise InputError(error.where, error.what, error.allowed, error.arrived, todo) from None
    console = out()
    console.print(f"wrote {started.sheet} and {started.template}")
    for sentence in started.assumed:
        console.print(f"assumed: {sentence}")
    if base == "pellam":
        console.print("assumed: the base is pellam, a small one for sample data; --base takes another")
    option = "" if folder == Path() else f" --sheet {started.sheet}"
    console.print(f"next: foldkit look{option}")
