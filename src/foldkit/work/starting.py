"""A starter sheet and template from a file of rows."""

from __future__ import annotations

import dataclasses
import tomllib
from dataclasses import dataclass
from pathlib import Path
from typing import Any

import pandas as pd

from foldkit.datasets import SplitSettings, assign_parts, code_rows
from foldkit.formats import InputError, UsageError, listed, read_settings, write_aside
from foldkit.rows import (
    KINDS,
    SHAPES,
    Kind,
    RowsSettings,
    belonging,
    found_delimiter,
    found_key,
    guess,
    read_rows,
    recognise,
)
from foldkit.rows.shapes import PiecesSettings
from foldkit.rows.tables import times
from foldkit.templates import template_from_mapping

from .inputs import Inputs, open_inputs
from .sheet import sheet_from_mapping
from .starter_sheet import Found, quoted, sheet_text, template_text

_FIRST = 2000
_WINDOWS = (128, 256, 512, 1024, 2048)
_GAPS, _ENOUGH_TALKS = (1800, 600, 300, 120, 60), 20
_REPLYING = ("assistant", "bot", "agent")
# Names of columns that may say how good an answer is.
_GRADES = ("grade", "rating", "score", "stars", "verdict", "thumb", "thumbs", "feedback", "vote", "votes")
_CUT = 512  # the window of texts that are cut in pieces


@dataclass(frozen=True)
class Start:
    """What was written, and what was assumed, in sentences."""

    sheet: Path
    template: Path
    assumed: tuple[str, ...]


def start(source: str, folder: str | Path, base: str = "pellam", encoding: str = "utf-8") -> Start:
    """Write `fold.toml` and `template.toml` into `folder` for the rows of `source`, a path relative to it.

    `encoding` is that of files of text. The folder is made where it is not there. Both files run as they are. Raises
    UsageError when one of them is there already: nothing is overwritten; and InputError, neither written, for rows or a
    base that cannot be read.
    """
    folder = Path(folder)
    sheet_at, template_at = folder / "fold.toml", folder / "template.toml"
    for path in (sheet_at, template_at):
        if path.exists():
            raise UsageError(path, "file", "a name not taken", path.name, "move it away, or choose another --folder")
    folder.mkdir(parents=True, exist_ok=True)  # the way to the source may lead through it
    reading, assumed = _reading(RowsSettings(source, encoding=encoding), folder)
    found, told = _found(reading, folder, base)
    template = template_text(found.kind)
    inputs = _inputs(found, template, folder)
    if found.shape:
        found = found._replace(n_rows=len(inputs.table), n_units=len(inputs.table))
    if found.group:
        found, parted = _parted(found, inputs)
        told.append(parted)
    found, window, fits = _fitted(found, inputs)
    write_aside(template_at, template)
    write_aside(sheet_at, sheet_text(found, window))
    alone = [] if found.group or found.in_order else [_alone(found.groups)]
    return Start(sheet_at, template_at, (*assumed, *told, fits, *alone))


def _found(reading: RowsSettings, folder: Path, base: str) -> tuple[Found, list[str]]:
    """Return what the rows are, and what that assumes."""
    table = read_rows(reading, folder).table
    names = [str(name) for name in table.columns]
    known = _recognised(table)
    kind = known or _guessed(table, folder / reading.source)
    shape, told = _shape(kind, table)
    unused = _unused(kind, names)
    asked = [name for slot, name in kind.columns.items() if slot in ("question", "prompt")]
    groups = [] if shape else belonging(table, [*asked, *unused])
    group = "talk" if kind.name == "transcript" else ""
    said = _said(kind, names, guessed=known is None)
    graded = [repr(name) for name in unused if name.lower() in _GRADES and kind.name in ("question", "instruction")]
    if graded:
        told.append(
            f"every answer is learned, whatever {listed(graded)} says: [rows.graded] or [rows.judged] make pairs of it"
        )
    return Found(reading, kind, base, shape, group, unused, groups, len(table), len(table)), [said, *told]


def _inputs(found: Found, template: str, folder: Path) -> Inputs:
    """Return what a sheet and a template read that are not written yet."""
    read = template_from_mapping(tomllib.loads(template), str(folder / "template.toml"))
    values = tomllib.loads(sheet_text(found, _CUT)) | {"template": {"use": read.name}}
    return dataclasses.replace(
        open_inputs(sheet_from_mapping(values, folder, str(folder / "fold.toml"))), template=read
    )


def _parted(found: Found, inputs: Inputs) -> tuple[Found, str]:
    """Return the same, in order where there are too few talks to part them, and what that assumes."""
    found = found._replace(n_units=int(inputs.table[found.group].nunique()))
    values = tomllib.loads(sheet_text(found, _CUT))
    try:
        assign_parts(inputs.table, read_settings(SplitSettings, values["split"], "[split]"))
    except InputError:
        said = f"there are too few talks to part them, {found.n_units}: the last replies are the test part"
        return found._replace(group="", in_order=True), said
    return found, "examples of one talk stay in one part"


def _fitted(found: Found, inputs: Inputs) -> tuple[Found, int, str]:
    """Return the same with texts that are too long cut in pieces, the window, and what both assume."""
    first = (inputs.table if found.shape else next(inputs.stream()).table).head(_FIRST)
    coded = code_rows(first, dataclasses.replace(inputs.coder, window=2**20))
    if not len(coded.examples):
        aside = coded.set_aside[0]
        return found, _CUT, f"none of the first {len(first)} rows can be used: row {aside.row}, {aside.reason}"
    lengths, most = coded.examples.lengths, _WINDOWS[-1]
    n, longest = len(lengths), int(lengths.max())
    if longest <= most:
        window = next(size for size in _WINDOWS if size >= longest)
        return found, window, f"the longest example of the first {n} has {longest} tokens: window {window}"
    over = f"{int((lengths > most).sum())} of the first {n} examples have over {most:,} tokens, the longest {longest:,}"
    if found.kind.name != "text":
        return found, most, f"{over}: they are set aside; shorten them, or give window more"
    n_characters = first["text"].loc[coded.examples.rows].str.len().to_numpy()
    size = max(100, int(0.8 * _CUT * (n_characters / lengths).min()) // 100 * 100)
    pieces, _ = SHAPES["pieces"](inputs.table, PiecesSettings(longest=size))
    shape = f"\n[rows.pieces]               # a row for each piece of a text\nlongest = {size:<17} # characters\n"
    cut = f"texts are cut in pieces of at most {size:,} characters, window {_CUT}; those of one text stay in one part"
    return found._replace(shape=shape, group="source_row", n_rows=len(pieces)), _CUT, f"{over}: {cut}"


def _reading(settings: RowsSettings, folder: Path) -> tuple[RowsSettings, list[str]]:
    """Return how the source is read, an unusual delimiter or the key of an array found, and what that assumes."""
    other, key = found_delimiter(settings, folder), found_key(settings, folder)
    said = [f"cells are parted by {other!r}, as the header has no other"] if other else []
    said += [f"the rows stand under the key {key!r}"] if key else []
    return dataclasses.replace(settings, delimiter=other, key=key), said


def _shape(kind: Kind, table: pd.DataFrame) -> tuple[str, list[str]]:
    """Return the section that makes a table of examples of such rows, empty where they are one, and what it assumes."""
    columns = "\n".join(f"{slot} = {quoted(name)}" for slot, name in kind.columns.items())
    if kind.name == "grouped":
        return f"\n[rows.grouped]              # a row for each text of a label\n{columns}\n", []
    if kind.name == "compared":
        return f"\n[rows.compared]             # lists of messages that differ in their last reply\n{columns}\n", []
    if kind.name != "transcript":
        return "", []
    learned, why = _main_speaker(table[kind.columns["speaker"]].str.strip())
    said = [f"the replies to learn are those of {learned!r}, {why}"]
    gap = ""
    if "time" in kind.columns and (seconds := _gap(times(table[kind.columns["time"]]))):
        gap = f"gap = {seconds:<21} # seconds of silence after which a new talk begins\n"
        said.append(f"a silence of {seconds // 60} minutes ends a talk")
    rest = (
        '# fillers = ["uh", "um"]    # words that are left out\n'
        "earlier = 6                 # turns before a reply that stay as its context\n"
    )
    return f"\n[rows.transcript]\nlearned = [{quoted(learned)}]\n{columns}\n{gap}{rest}", said


def _gap(at: pd.Series[float]) -> int:
    """Return a silence in seconds that ends a talk: one that leaves enough talks, and not as many as there are turns.

    The longest of those that do, else the longest of all, or 0 where everyone takes as long to answer.
    """
    silences = at.diff()
    n_longer = {gap: int((silences > gap).sum()) for gap in _GAPS}
    parting = (gap for gap, n in n_longer.items() if _ENOUGH_TALKS <= n < len(at) / 2)
    return next(parting, _GAPS[0] if n_longer[_GAPS[0]] < len(at) / 2 else 0)


def _recognised(table: pd.DataFrame) -> Kind | None:
    """Return the kind that the names of columns tell; of pairs also whether they are lists of messages.

    Of a transcript that has a column of talks times are of no use.
    """
    kind = recognise(list(map(str, table.columns)))
    if kind and kind.name == "transcript" and "talk" in kind.columns:
        return Kind(kind.name, {slot: name for slot, name in kind.columns.items() if slot != "time"})
    if kind is None or kind.name not in ("preference", "compared"):
        return kind
    if any(
        table[kind.columns[slot]].str.match(r"\s*\[\s*\{").any()
        for slot in ("prompt", "chosen")
        if slot in kind.columns
    ):
        return Kind("compared", {slot: name for slot, name in kind.columns.items() if slot in KINDS["compared"]})
    return kind if kind.name == "preference" else None


def _main_speaker(speakers: pd.Series[Any]) -> tuple[str, str]:
    """Return whose words are replies, and why: by a usual name, else who speaks most.

    Of two who speak as often it is who came in later, as an answer comes after its question.
    """
    n_said, order = speakers.value_counts(), speakers.drop_duplicates().tolist()
    if usual := [name for name in order if name.lower() in _REPLYING]:
        return str(usual[0]), "by the name"
    return str(max(order, key=lambda name: (n_said[name], order.index(name)))), "who speaks most"


def _guessed(table: pd.DataFrame, where: Path) -> Kind:
    if (kind := guess(table)) is None:
        found = listed(list(table))
        raise InputError(where, "columns", "columns of text", found, "write fold.toml by hand: see the README")
    return kind


def _alone(groups: list[str]) -> str:
    if not groups:
        return "every row is by itself: if some belong together (a day, a person, a text), set group in [split]"
    named = " or ".join(map(repr, groups))
    return f"every row is by itself: values of {named} stand in several: if these belong together, set group in [split]"


def _unused(kind: Kind, names: list[str]) -> list[str]:
    return [name for name in names if name not in kind.columns.values()]


def _said(kind: Kind, names: list[str], *, guessed: bool) -> str:
    held = ", ".join(f"{slot} in column {name!r}" for slot, name in kind.columns.items())
    unused = _unused(kind, names)
    how = (
        "guessed from the cells, as the usual names of columns are not all there"
        if guessed
        else "recognised by the names of columns"
    )
    rest = f"; not used: {listed(unused)}" if unused else ""
    return f"{kind.name} rows, {how}: {held}{rest}"
