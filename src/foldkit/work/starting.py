"""A starter sheet and template from a file of rows."""

from __future__ import annotations

import dataclasses
import json
import shutil
import tomllib
from dataclasses import dataclass
from pathlib import Path
from typing import Any, NamedTuple

import pandas as pd

from foldkit.formats import InputError, UsageError, write_aside
from foldkit.rows import Kind, RowsSettings, belonging, found_delimiter, guess, read_rows, recognise
from foldkit.templates.template import BUILTIN

from .inputs import open_inputs, token_lengths
from .sheet import sheet_from_mapping

_FEW = 200
_WINDOWS = (128, 256, 512, 1024, 2048)


@dataclass(frozen=True)
class Start:
    """What was written, and what was assumed, in sentences."""

    sheet: Path
    template: Path
    assumed: tuple[str, ...]


class _Found(NamedTuple):
    """What a sheet is written from; `unused` columns, and `groups` of them by which rows may belong together."""

    reading: RowsSettings
    kind: Kind
    base: str
    shape: str
    unused: list[str]
    groups: list[str]


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
    table = read_rows(reading, folder).table
    names = [str(name) for name in table.columns]
    kind = recognise(names)
    guessed = kind is None
    kind = kind or _guessed(table, folder / source)
    assumed.append(_said(kind, names, guessed=guessed))
    shape, told = _shape(kind, table)
    assumed += told
    unused = _unused(kind, names)
    groups = [] if shape else belonging(table, unused)
    found = _Found(reading, kind, base, shape, unused, groups)
    template = {"transcript": "conversation", "grouped": "label"}.get(kind.name, kind.name)
    values = tomllib.loads(_sheet_text(found, 512, len(table))) | {"template": {"use": template}}
    inputs = open_inputs(sheet_from_mapping(values, folder, str(sheet_at)))
    first = token_lengths(inputs)
    longest = max((whole for whole, _ in first), default=0)
    window = next((size for size in _WINDOWS if size >= longest), _WINDOWS[-1])
    shutil.copyfile(BUILTIN / f"{template}.toml", template_at)
    write_aside(sheet_at, _sheet_text(found, window, len(inputs.table)))
    assumed.append(f"the longest example of the first {len(first)} has {longest} tokens: window {window}")
    if kind.name != "transcript":
        assumed.append(_alone(groups))
    return Start(sheet_at, template_at, tuple(assumed))


def _reading(settings: RowsSettings, folder: Path) -> tuple[RowsSettings, list[str]]:
    """Return how the source is read, its delimiter found where it is not the usual one, and what that assumes."""
    other = found_delimiter(settings, folder)
    said = [f"cells are parted by {other!r}, as the header has no other"] if other else []
    return dataclasses.replace(settings, delimiter=other), said


def _shape(kind: Kind, table: pd.DataFrame) -> tuple[str, list[str]]:
    """Return the section that makes a table of examples of such rows, empty where they are one, and what it assumes."""
    columns = "\n".join(f"{slot} = {_quoted(name)}" for slot, name in kind.columns.items())
    if kind.name == "grouped":
        return f"\n[rows.grouped]              # a row for each text of a label\n{columns}\n", []
    if kind.name != "transcript":
        return "", []
    learned = _main_speaker(table[kind.columns["speaker"]].str.strip())
    said = [f"the replies to learn are those of {learned!r}, who speaks most; calls of one talk stay in one part"]
    gap = ""
    if "time" in kind.columns:
        gap = "gap = 1800                  # seconds of silence after which a new talk begins\n"
        said.append("a silence of half an hour ends a talk")
    fillers = (
        'fillers = ["uh", "um", "er"]\nearlier = 6                 # turns before a reply that stay as its context\n'
    )
    return f"\n[rows.transcript]\nlearned = [{_quoted(learned)}]\n{columns}\n{gap}{fillers}", said


def _main_speaker(speakers: pd.Series[Any]) -> str:
    """Return who speaks most; of two who speak as often, who came in later, as an answer comes after its question."""
    n_said, order = speakers.value_counts(), speakers.drop_duplicates().tolist()
    return str(max(order, key=lambda name: (n_said[name], order.index(name))))


def _guessed(table: pd.DataFrame, where: Path) -> Kind:
    if (kind := guess(table)) is None:
        found = ", ".join(map(str, table.columns))
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
    rest = f"; not used: {', '.join(unused)}" if unused else ""
    return f"{kind.name} rows, {how}: {held}{rest}"


def _sheet_text(found: _Found, window: int, n_rows: int) -> str:
    reading, kind, base, shape, unused, groups = found
    renamed = {slot: name for slot, name in kind.columns.items() if slot != name and not shape}
    renamed |= {f"other_{slot}": slot for slot in renamed if slot in unused}
    there = {theirs: name for name, theirs in renamed.items()}
    column = _quoted(there.get(groups[0], groups[0]) if groups else "a column")
    group = f"# group = {column}        # rows that share its value stay in one part"
    if kind.name == "transcript":
        group = 'group = "talk"              # examples of one talk stay in one part'
    columns = ", ".join(f"{slot} = {_quoted(name)}" for slot, name in renamed.items())
    own = [f"{name} = {_quoted(value)}\n" for name in ("delimiter", "encoding") if (value := _unusual(reading, name))]
    measures = '"label", "f1"' if kind.name in ("label", "grouped") else '"exact", "similarity"'
    few = n_rows < _FEW
    part, unit = (
        (f"{max(1, n_rows // 10):<3}", "rows, as a share of few may come out empty") if few else ("0.1", "a share")
    )
    return f"""# One piece of work, from rows to scores. Paths are relative to this file.

[rows]
source = {_quoted(reading.source)}
{"".join(own)}{f"columns = {{ {columns} }}" if columns else "# columns = { ours = 'theirs' }"}
on_bad = "stop"             # or "set aside": rows that cannot be read go to built/set_aside.jsonl
{shape}
[template]
use = "template.toml"       # how a row becomes turns

[split]
validation = {part}            # {unit}; settings are chosen on it
test = {part}                  # for the scorecard alone
{group}
seed = 11

[base]
model = {_quoted(base)}     # the small one that ships, a folder, or a .gguf file

[adapter]
rank = 8
alpha = 16
reach = "all"               # or attention, mlp

[train]
window = {window}                # longest example in tokens; longer ones are set aside, never cut
epochs = 3
batch = 16
learning_rate = 1e-3

[score]
measures = ["loss", {measures}]

[[score.contender]]
name = "base with 3 shots"
shots = 3
"""


def _unusual(reading: RowsSettings, name: str) -> str:
    """Return a setting of the rows where it is not at its default, "" where it is."""
    value = str(getattr(reading, name))
    return "" if value == getattr(RowsSettings(""), name) else value


def _quoted(text: str) -> str:
    return json.dumps(text, ensure_ascii=False)
