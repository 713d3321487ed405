"""A starter sheet and template from a file of rows."""

from __future__ import annotations

import json
import shutil
from dataclasses import dataclass
from pathlib import Path

import pandas as pd

from foldkit.formats import InputError, UsageError, write_aside
from foldkit.rows import Kind, RowsSettings, read_rows, recognise
from foldkit.templates.template import BUILTIN

from .inputs import open_inputs, token_lengths
from .sheet import read_sheet

_WINDOWS = (128, 256, 512, 1024, 2048)


@dataclass(frozen=True)
class Start:
    """What was written, and what was assumed, in sentences."""

    sheet: Path
    template: Path
    assumed: tuple[str, ...]


def start(source: str, folder: Path, base: str = "pellam") -> Start:
    """Write `fold.toml` and `template.toml` into `folder` for the rows of `source`, a path relative to it.

    Both run as they are. Raises UsageError when one of them is there already: nothing is overwritten.
    """
    sheet_at, template_at = folder / "fold.toml", folder / "template.toml"
    for path in (sheet_at, template_at):
        if path.exists():
            raise UsageError(path, "file", "a name not taken", path.name, "move it away, or choose another --folder")
    table = read_rows(RowsSettings(source), folder).table
    names = [str(name) for name in table.columns]
    kind = recognise(names)
    guessed = kind is None
    kind = kind or _guess(table, folder / source)
    assumed = [_said(kind, names, guessed=guessed)]
    shutil.copyfile(BUILTIN / f"{kind.name}.toml", template_at)
    write_aside(sheet_at, _sheet_text(source, kind, base, 512))
    inputs = open_inputs(read_sheet(sheet_at))
    first = token_lengths(inputs)
    longest = max((whole for whole, _ in first), default=0)
    window = next((size for size in _WINDOWS if size >= longest), _WINDOWS[-1])
    write_aside(sheet_at, _sheet_text(source, kind, base, window))
    assumed.append(f"the longest example of the first {len(first)} has {longest} tokens: window {window}")
    assumed.append("every row is by itself: if some belong together (a day, a person, a text), set group in [split]")
    return Start(sheet_at, template_at, tuple(assumed))


def _guess(table: pd.DataFrame, where: Path) -> Kind:
    """Take the column with the longest texts for the question and the last other one of texts for the answer."""
    lengths = {str(name): float(table[name].str.len().median()) for name in table.columns}
    texts = [name for name, length in lengths.items() if table[name].nunique() > 0.5 * len(table) and length > 8]
    if len(texts) == 1 or len(table.columns) == 1:
        return Kind("text", {"text": (texts or list(lengths))[0]})
    if not texts:
        found = ", ".join(lengths)
        raise InputError(where, "columns", "columns of text", found, "write fold.toml by hand: see the README")
    answer = texts[-1]
    question = max((name for name in texts if name != answer), key=lengths.__getitem__)
    return Kind("question", {"question": question, "answer": answer})


def _said(kind: Kind, names: list[str], *, guessed: bool) -> str:
    held = ", ".join(f"{slot} in column {name!r}" for slot, name in kind.columns.items())
    unused = [name for name in names if name not in kind.columns.values()]
    how = "no usual names of columns; guessed from lengths" if guessed else "recognised by the names of columns"
    rest = f"; not used: {', '.join(unused)}" if unused else ""
    return f"{kind.name} rows, {how}: {held}{rest}"


def _sheet_text(source: str, kind: Kind, base: str, window: int) -> str:
    renamed = {slot: name for slot, name in kind.columns.items() if slot != name}
    columns = ", ".join(f"{slot} = {_quoted(name)}" for slot, name in renamed.items())
    return f"""# One piece of work, from rows to scores. Paths are relative to this file.

[rows]
source = {_quoted(source)}
{f"columns = {{ {columns} }}" if columns else "# columns = { ours = 'theirs' }"}
on_bad = "stop"             # or "set aside": rows that cannot be read go to built/set_aside.jsonl

[template]
use = "template.toml"       # how a row becomes turns

[split]
validation = 0.1            # settings are chosen on it
test = 0.1                  # for the scorecard alone
# group = "a column"        # rows that share its value stay in one part
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
measures = ["loss", "exact", "similarity"]

[[score.contender]]
name = "base with 3 shots"
shots = 3
"""


def _quoted(text: str) -> str:
    return json.dumps(text, ensure_ascii=False)
