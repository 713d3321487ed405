"""A starter sheet and template from a file of rows."""

from __future__ import annotations

import contextlib
import dataclasses
import tomllib
from collections.abc import Iterator
from dataclasses import dataclass
from pathlib import Path
from typing import Any

import pandas as pd

from foldkit.datasets import Coded, SplitSettings, assign_parts, code_rows
from foldkit.formats import InputError, UsageError, listed, read_settings, write_aside
from foldkit.formats.errors import shown
from foldkit.formats.paths import path_from
from foldkit.rows import (
    SHAPES,
    FoundReading,
    Kind,
    RowsSettings,
    are_numbers,
    belonging,
    column_of,
    endings_said,
    find_files,
    found_reading,
    listed_values,
    read_rows,
    texts_at,
)
from foldkit.rows.reading import collected
from foldkit.rows.settings import UNITS
from foldkit.rows.shapes import JudgedSettings, PiecesSettings
from foldkit.rows.tables import rows_of, spread
from foldkit.rows.thoughts import mark_of_thoughts
from foldkit.templates import Template, template_from_mapping
from foldkit.tokens import Encoder

from .inputs import Inputs, open_inputs
from .sheet import sheet_from_mapping
from .starter_kind import found_kind
from .starter_parts import NO_COLUMN_LEFT, parts_beside, told_parts
from .starter_shapes import LOOKED_AT, found_roles, shape_section, unlearned_thoughts
from .starter_sheet import KEPT, SHAPED, USUAL, Found, pace, shapes_in, sheet_text, template_text

_WINDOWS = (128, 256, 512, 1024, 2048)
# Names of columns that may say how good an answer is.
_GRADES = ("grade", "rating", "score", "stars", "verdict", "thumb", "thumbs", "feedback", "vote", "votes")
# What a shape has no part in, though its rows need it.
_ASKED = ("prompt", "input", "system")
_ASIDE = {"choices": ("question", "input"), "ticked": ("text",), "picked": _ASKED, "graded": _ASKED}
# What of shaped rows stays in one part.
_TOGETHER = {("transcript",): "talk", ("graded",): "prompt", ("graded", "compared"): "messages"}
# What is learned of rows that are examples as they stand.
_REPLIES = ("answer", "output", "label")
_OF_PROSE = ("file", "heading")
_CUT = 512  # the window of texts that are cut in pieces


@dataclass(frozen=True)
class Start:
    """What was written, and what was assumed, in sentences."""

    sheet: Path
    template: Path
    assumed: tuple[str, ...]


def start(
    source: str,
    folder: str | Path,
    base: str = "pellam",
    encoding: str = "utf-8",
    *,
    question: str = "",
    answer: str = "",
) -> Start:
    """Write `fold.toml` and `template.toml` into `folder` for the rows of `source`, a path relative to it.

    `encoding` is that of files of text. `question` and `answer` name the columns of these, or paths in one, where they
    are not to be found by their names and cells. The folder is made where it is not there. Both files run as they are.
    Raises UsageError when one of them is there already: nothing is overwritten; and InputError, neither written, for
    rows or a base that cannot be read.
    """
    folder = Path(folder)
    sheet_at, template_at = folder / "fold.toml", folder / "template.toml"
    for path in (sheet_at, template_at):
        if path.exists():
            raise UsageError(path, "file", "a name not taken", path.name, "move it away, or choose another --folder")
    with _made(folder):
        reading, prose, assumed = _reading(RowsSettings(source, encoding=encoding), folder)
        found, told = _found(reading, folder, base, question, answer)
        found = found._replace(prose=prose)
        inputs = _inputs(found, template_text(found), folder)
        if found.shape:
            found = _shaped(found, inputs.table)
        told += [said for said in (found.told.said, parts_beside(path_from(folder, source))) if said]
        if found.group and not found.told.whole:
            found, parted = _parted(found, inputs)
            told.append(parted)
        seen = spread(inputs.table, LOOKED_AT)
        found = found._replace(after=_mark_of_thoughts(seen, inputs.template))
        if found.after:
            told.append(f"replies begin with thoughts: they are learned, and measured from behind {found.after}")
        found, coded, marked = _coded(found, inputs, seen)
        marked += _set_aside(coded, _said_of(len(seen), inputs.table, "rows"))
        found, window, fits = _fitted(found, inputs.table, seen, coded)
        write_aside(template_at, template_text(found))
        write_aside(sheet_at, sheet_text(found, window))
    alone = [] if found.group or found.in_order or found.told.whole else [_alone(found.groups)]
    return Start(sheet_at, template_at, (*assumed, *told, *marked, fits, *_paced(found), *alone))


@contextlib.contextmanager
def _made(folder: Path) -> Iterator[None]:
    """Make a folder, for the way to the source may lead through it; what is empty goes again where work in it fails."""
    new = [path for path in (folder, *folder.parents) if not path.exists()]
    folder.mkdir(parents=True, exist_ok=True)
    try:
        yield
    except BaseException:
        with contextlib.suppress(OSError):
            for path in new:
                path.rmdir()
        raise


def _found(reading: RowsSettings, folder: Path, base: str, question: str, answer: str) -> tuple[Found, list[str]]:
    """Return what the rows are, and what that assumes."""
    table = read_rows(reading, folder).table
    parts = told_parts(find_files(reading, folder), path_from(folder, reading.source), table)
    table = table.drop(columns=[parts.column] if parts.column else [])
    names = [str(name) for name in table.columns]
    theirs, how = found_kind(table, path_from(folder, reading.source), question, answer)
    used = {column_of(path, names) for path in theirs.columns.values()}
    unused = [name for name in names if name not in used]
    columns = _columns(theirs, names)
    kind = Kind(theirs.name, {slot: columns.get(name, name) for slot, name in theirs.columns.items()})
    reading = dataclasses.replace(reading, columns={ours: name for name, ours in columns.items()})
    paths = {ours: texts_at(table, path) for path, ours in columns.items() if path not in names}
    renamed = table.rename(columns=columns).assign(**paths)
    roles, told = found_roles(kind, renamed)
    shape, assumed = shape_section(kind, renamed, roles)
    asked = [name for slot, name in theirs.columns.items() if slot in ("question", "prompt") and name in names]
    groups = [] if shape else belonging(table, [*asked, *unused])
    group = _TOGETHER.get(shapes_in(shape), "")
    told += _beside(kind, [table[name] for name in unused])
    replies = [kind.columns[slot] for slot in _REPLIES if slot in kind.columns and not shape]
    lists = any(listed_values(renamed[name]) is not None for name in replies)
    numbers = kind.name == "question" and all(are_numbers(renamed[name]) for name in replies)
    form = "lists" if lists else "numbers" if numbers else ""
    found = Found(reading, kind, base, shape, group, groups, roles, len(table), len(table), replies=form, told=parts)
    return found, [_said(theirs, unused, how), *told, *assumed]


def _columns(kind: Kind, names: list[str]) -> dict[str, str]:
    """Return columns and paths that need another name, with that one, and columns that have the name of such a slot.

    What a shape reads keeps its name, but for paths.
    """
    shaped = [slot for slot in kind.columns if kind.name in SHAPED and slot not in _ASIDE.get(kind.name, ())]
    found = {
        name: slot.replace(" ", "_")
        for slot, name in kind.columns.items()
        if slot != name and (name not in names or slot not in shaped)
    }
    return found | {ours: f"other_{ours}" for ours in found.values() if ours in names and ours not in found}


def _beside(kind: Kind, unused: list[pd.Series[Any]]) -> list[str]:
    """Return what it means that columns are not used."""
    if kind.name == "text" and any(cells.name not in _OF_PROSE for cells in unused):
        return ["texts are learned as they are, nothing is asked; --answer names a column that is to be answered"]
    if kind.name not in ("question", "instruction", "continued"):
        return []
    graded = [repr(cells.name) for cells in unused if _grades(cells)]
    pairs = "[rows.graded] or [rows.judged] make pairs of it"
    said = [f"every answer is learned, whatever {listed(graded)} says: {pairs}"] if graded else []
    return [*said, *unlearned_thoughts(str(cells.name) for cells in unused)]


def _grades(cells: pd.Series[Any]) -> bool:
    """Tell whether a column may say how good an answer is, by its name or by verdicts in it, good ones and bad ones."""
    values = set(cells.str.casefold())
    judged = JudgedSettings()
    sides = [not values.isdisjoint(words) for words in (judged.good, judged.bad)]
    return str(cells.name).lower() in _GRADES or (all(sides) and values <= {*judged.good, *judged.bad, ""})


def _inputs(found: Found, template: str, folder: Path) -> Inputs:
    """Return what a sheet and a template read that are not written yet."""
    read = template_from_mapping(tomllib.loads(template), str(folder / "template.toml"))
    values = tomllib.loads(sheet_text(found, _CUT)) | {"template": {"use": read.name}}
    return dataclasses.replace(
        open_inputs(sheet_from_mapping(values, folder, str(folder / "fold.toml"))), template=read
    )


def _shaped(found: Found, table: pd.DataFrame) -> Found:
    """Return the same of rows that were shaped into these: how many they are, and what shaping leaves of the rest."""
    lists = found.kind.name == "ticked" and listed_values(table["label"]) is not None
    told = found.told if found.told.column in ("", *table) else NO_COLUMN_LEFT
    n = len(table)
    return found._replace(n_rows=n, n_units=n, replies="lists" if lists else "", told=told)


def _parted(found: Found, inputs: Inputs) -> tuple[Found, str]:
    """Return the same, in order where there are too few talks to part them, and what that assumes."""
    found = found._replace(n_units=int(inputs.table[found.group].nunique()))
    parts, whole = KEPT[found.group]
    values, rows = tomllib.loads(sheet_text(found, _CUT)), collected(inputs.stream())
    try:
        assign_parts(rows.table, read_settings(SplitSettings, values["split"], "[split]"), files=rows.paths)
    except InputError:
        said = f"there are too few {whole}s to part them, {found.n_units}: the last ones are the test part"
        return found._replace(group="", in_order=True), said
    return found, f"{parts} of one {whole} stay in one part"


def _paced(found: Found) -> list[str]:
    """Say of few rows how they are trained on."""
    epochs, batch = pace(found)
    if (epochs, batch) == USUAL:
        return []
    n_steps = round(0.8 * found.n_rows * epochs / batch)
    return [f"{found.n_rows} rows are few: batches of {batch} and {epochs} epochs, about {n_steps} steps"]


def _mark_of_thoughts(seen: pd.DataFrame, template: Template) -> str:
    """Return the mark that ends the thoughts of replies, where they begin with some."""
    replies = []
    for _, row in rows_of(seen):
        with contextlib.suppress(ValueError, IndexError):  # a conversation that cannot be used, or without a reply
            replies.append(template.target(row))
    return mark_of_thoughts(replies)


def _coded(found: Found, inputs: Inputs, seen: pd.DataFrame) -> tuple[Found, Coded, list[str]]:
    """Return these rows encoded, under headings where the base's own markup takes none, and what that assumes."""
    coder = dataclasses.replace(inputs.coder, window=2**20)
    try:
        return found, code_rows(seen, coder), []
    except InputError as error:
        coder = dataclasses.replace(coder, encoder=Encoder(inputs.side, inputs.side.markup("headings")))
        why = f"expected {error.allowed}, found {shown(error.arrived)}"
        said = f"turns stand under headings, for the base's own markup is of no use here: {why}"
        return found._replace(headings=True), code_rows(seen, coder), [said]


def _said_of(n: int, table: pd.DataFrame, what: str) -> str:
    """Return in words of which rows, or examples of rows, something is said."""
    return f"of {n:,} {what}" + (" from all over the file" if len(table) > LOOKED_AT else "")


def _set_aside(coded: Coded, of_rows: str) -> list[str]:
    """Say how many of these rows cannot be used, where some can."""
    if not coded.set_aside or not len(coded.examples):
        return []
    one = coded.set_aside[0]
    return [f"{len(coded.set_aside)} {of_rows} cannot be used, row {one.row} for one: {one.reason}"]


def _fitted(found: Found, table: pd.DataFrame, seen: pd.DataFrame, coded: Coded) -> tuple[Found, int, str]:
    """Return the same with texts that are too long cut in pieces, the window, and what both assume."""
    if not len(coded.examples):
        aside = coded.set_aside[0]
        none = f"none {_said_of(len(seen), table, 'rows')} can be used"
        return found, _CUT, f"{none}: row {aside.row}, {aside.reason}"
    lengths, most = coded.examples.lengths, _WINDOWS[-1]
    of_all, longest = _said_of(len(lengths), table, "examples"), int(lengths.max())
    if longest <= most:
        window = next(size for size in _WINDOWS if size >= longest)
        return found, window, f"the longest {of_all} has {longest} tokens: window {window}"
    over = f"{int((lengths > most).sum())} {of_all} have over {most:,} tokens, the longest {longest:,}"
    if found.kind.name != "text":
        return found, most, f"{over}: they are set aside; shorten them, or give window more"
    n_characters = seen["text"].loc[coded.examples.rows].str.len().to_numpy()
    size = max(100, int(0.8 * _CUT * (n_characters / lengths).min()) // 100 * 100)
    pieces, _ = SHAPES["pieces"](table, PiecesSettings(longest=size))
    shape = f"\n[rows.pieces]               # a row for each piece of a text\nlongest = {size:<17} # characters\n"
    cut = f"texts are cut in pieces of at most {size:,} characters, window {_CUT}; those of one text stay in one part"
    return found._replace(shape=shape, group="source_row", n_rows=len(pieces)), _CUT, f"{over}: {cut}"


def _reading(settings: RowsSettings, folder: Path) -> tuple[RowsSettings, bool, list[str]]:
    """Return how the source is read, what is unusual in it found, whether it is prose, and what that assumes."""
    found = found_reading(settings, folder)
    if found.as_text:
        unit = "line" if path_from(folder, settings.source).is_file() else "file"
        settings = dataclasses.replace(settings, as_text=found.as_text, unit=unit)
    read = dataclasses.replace(
        settings, delimiter=found.delimiter, skip=found.skip, key=next(iter(found.keys), ""), pattern=found.pattern
    )
    return read, found.prose, [*_of_files(settings.source, found), *_of_layout(read, found)]


def _of_files(source: str, found: FoundReading) -> list[str]:
    """Return what it assumes which files are read."""
    said = [f"files ending in {name} are text" for name in found.as_text]
    if found.unread:
        pattern = f"{source.rstrip('/')}/**/*{found.text_ending}"
        hint = f"; a source such as {pattern!r} reads those" if found.text_ending in found.unread else ""
        said.append(f"files of other kinds are not read: {endings_said(found.unread)}{hint}")
    return said


def _of_layout(read: RowsSettings, found: FoundReading) -> list[str]:
    """Return what it assumes how rows stand in the files."""
    said = [f"cells are parted by {read.delimiter!r}, as the header has no other"] if read.delimiter else []
    fewer = f"; those under {listed(found.keys[1:])}, which are fewer, are not read" if found.keys[1:] else ""
    said += [f"the rows stand under the key {read.key!r}{fewer}"] if read.key else []
    said += [f"the header is line {read.skip + 1}: what stands above it is passed over"] if read.skip else []
    if read.pattern:
        said.append("each line says who speaks; a line that does not goes on with what was said before it")
    if found.prose:
        others = " or ".join(unit for unit in UNITS if unit != read.unit)
        said.append(f"every {read.unit} is a text by itself; unit in [rows] may be {others}")
    return said


def _alone(groups: list[str]) -> str:
    if not groups:
        return "every row is by itself: if some belong together (a day, a person, a text), set group in [split]"
    named = " or ".join(map(repr, groups))
    return f"every row is by itself: values of {named} stand in several: if these belong together, set group in [split]"


def _said(kind: Kind, unused: list[str], how: str) -> str:
    held = ", ".join(f"{slot} in column {name!r}" for slot, name in kind.columns.items())
    rest = f"; not used: {listed(unused)}" if unused else ""
    return f"{kind.name} rows, {how}: {held}{rest}"
