"""The text of a starter sheet, which runs as it is."""

from __future__ import annotations

import json
import math
import re
from collections.abc import Mapping
from typing import NamedTuple

from foldkit.rows import Kind, RowsSettings
from foldkit.templates.template import BUILTIN

from .starter_parts import ToldParts

_FEW = 200
# Steps that a training should make: of fewer hardly anything is learned. Epochs and batch of rows that are not few.
_STEPS, USUAL = 100, (3, 16)
_SECTION = re.compile(r"\[rows\.(\w+)\]")
_BARE = re.compile(r"[A-Za-z0-9_-]+")
# The templates of kinds whose rows are shaped, and what groups of rows are kept together.
SHAPED = {
    "transcript": "conversation",
    "grouped": "label",
    "graded": "preference",
    "picked": "preference",
    "compared": "compared",
    "choices": "choices",
    "ticked": "label",
    "marked": "conversation",
    "pieces": "pieces",
}
# What of shaped rows is kept together, by the column that says so: parts, and of what.
KEPT = {
    "talk": ("examples", "talk"),
    "prompt": ("pairs", "prompt"),
    "messages": ("pairs", "prompt"),
    "source_row": ("pieces", "text"),
}
# How replies of some forms are measured.
_MEASURES = {"lists": "items", "numbers": "numbers"}
_GENERAL = '# general = ["other.txt"]     # text of another kind: how much of it the adapter forgets\n'
# What an input stands under, where only some kinds of rows have one.
_PROMPT = 'text = "{prompt}"\n'
_ABOVE_INPUT = {"preference": _PROMPT, "picked": _PROMPT, "graded": _PROMPT, "label": 'text = "{text}"\n'}
_INPUT = """
[[turn.when]]               # only where the row has an input
slot = "input"
text = "\\n\\n{input}"
"""
_EACH = 'each = "messages"\n'
_BEFORE = "learned = false\n"
_MAY_LACK = 'needs = "messages"          # nothing was said before a question by itself\n'
_ANSWER, _EACH_REPLY = 'role = "assistant"\ntext = "{answer}"\nlearned = true\n', 'each = "replies"\n'
_SYSTEM = """
[[turn]]
role = "system"
text = "{system}"
needs = "system"            # only where the row has one
"""
_HISTORY = """
[[turn]]
each = "history"            # what was said before
learned = false
needs = "history"
"""


class Found(NamedTuple):
    """What a sheet is written from; `groups` are columns by which rows may belong together.

    The reading names columns anew, and `kind` has those names. `roles` are names of roles in messages, with ours.
    `shape` is the section that makes examples of the rows, where one is needed, and `group` what it keeps together:
    `n_units` of `n_rows` examples. With `in_order` the last of them are the test part; `prose` has units, `replies`
    are "lists" or "numbers", where they are such; `told` are the parts that rows come in already. `after` is the mark
    that ends the thoughts that replies begin with. Turns stand under `headings` where the base's own markup is of no
    use.
    """

    reading: RowsSettings
    kind: Kind
    base: str
    shape: str
    group: str
    groups: list[str]
    roles: dict[str, str]
    n_units: int
    n_rows: int
    in_order: bool = False
    prose: bool = False
    replies: str = ""
    told: ToldParts = ToldParts()
    after: str = ""
    headings: bool = False


def sheet_text(found: Found, window: int) -> str:
    """Return the sheet of rows as they were found, for examples of at most so many tokens."""
    epochs, batch = pace(found)
    return f"""# One piece of work, from rows to scores. Paths are relative to this file.

{_rows(found)}
[template]
use = "template.toml"       # how a row becomes turns

{_split(found)}
[base]
model = {quoted(found.base)}     # the small one that ships, a folder, or a .gguf file
{_markup(found)}
[adapter]
rank = 8
alpha = 16
reach = "all"               # or attention, mlp

[train]
window = {window:<18} # longest example in tokens; longer ones are set aside, never cut
epochs = {epochs}
batch = {batch}
learning_rate = 1e-3
{_objective(found.kind)}
{_score(found)}"""


def pace(found: Found) -> tuple[int, int]:
    """Return epochs and batch: of few rows more of smaller ones, for a hundred steps or nearly so."""
    n_train, (epochs, batch) = 0.8 * found.n_rows, USUAL
    if epochs * n_train < _STEPS * batch:
        batch = 8 if 5 * n_train >= 8 * _STEPS else 4
        epochs = min(20, max(epochs, math.ceil(_STEPS * batch / max(1.0, n_train))))
    return epochs, batch


def template_text(found: Found) -> str:
    """Return the template of rows as they were found: a built-in one, with what only some rows have."""
    kind = found.kind
    *_, shape = (kind.name, *shapes_in(found.shape))
    name = SHAPED.get(shape, shape)
    head, rest = (BUILTIN / f"{name}.toml").read_text(encoding="utf-8").split("\n", 1)
    above = _ABOVE_INPUT.get(kind.name, "")
    if above and "input" in kind.columns:
        rest = rest.replace(above, above + _INPUT)
    if "replies" in kind.columns:
        rest = rest.replace(_BEFORE, _BEFORE + _MAY_LACK).replace(_ANSWER, _EACH_REPLY)
    if found.roles and kind.name in ("conversation", "continued"):
        for each in (_EACH, _EACH_REPLY):
            rest = rest.replace(each, f"{each}roles = {inline(found.roles)}\n")
    own = [text for slot, text in (("system", _SYSTEM), ("history", _HISTORY)) if slot in kind.columns]
    return f"{head}\n{''.join(own)}{rest}"


def shapes_in(section: str) -> tuple[str, ...]:
    """Return the names of the shapes that a section of the sheet makes of the source, in order."""
    return tuple(_SECTION.findall(section))


def inline(values: Mapping[str, str]) -> str:
    """Return a table of texts as TOML writes it in one line."""
    names = {name: name if _BARE.fullmatch(name) else quoted(name) for name in values}
    return f"{{ {', '.join(f'{names[name]} = {quoted(value)}' for name, value in values.items())} }}"


def quoted(text: str) -> str:
    """Return a text as TOML writes it."""
    return json.dumps(text, ensure_ascii=False)


def _rows(found: Found) -> str:
    usual = RowsSettings("")
    own = {name: str(getattr(found.reading, name)) for name in ("delimiter", "encoding", "key")}
    unusual = [f"{name} = {quoted(value)}\n" for name, value in own.items() if value != getattr(usual, name)]
    if found.reading.as_text:
        unusual += [f"as_text = [{', '.join(map(quoted, found.reading.as_text))}]\n"]
    unusual += [f"pattern = '{found.reading.pattern}'\n"] if found.reading.pattern else []
    unusual += [f"skip = {found.reading.skip:<20} # lines above the header\n"] if found.reading.skip else []
    unusual += [f"unit = {quoted(found.reading.unit):<20} # what one row is\n"] if found.prose else []
    renamed = found.reading.columns
    return f"""[rows]
source = {quoted(found.reading.source)}
{"".join(unusual)}{f"columns = {inline(renamed)}" if renamed else "# columns = { ours = 'theirs' }"}
on_bad = "stop"             # or "set aside": rows that cannot be read go to built/set_aside.jsonl
{found.shape}"""


def _split(found: Found) -> str:
    ours = {theirs: name for name, theirs in found.reading.columns.items()}
    column = quoted(ours.get(found.groups[0], found.groups[0]) if found.groups else "a column")
    group = f"# group = {column}        # rows that share its value stay in one part"
    if found.group:
        group = f"group = {quoted(found.group):<19} # {' of one '.join(KEPT[found.group])} stay in one part"
    if found.in_order:
        group = 'time = "source_row"         # the last ones are the test part, those before them validation'
    part, unit = "0.1", "a share"
    if found.n_units < _FEW:
        part, unit = str(max(1, found.n_rows // 10)), "rows, as a share of few may come out empty"
    lines = {
        "validation": f"validation = {part:<14} # {unit}; settings are chosen on it",
        "test": f"test = {part:<20} # for the scorecard alone",
    }
    drawn = "".join(f"{line}\n" for name, line in lines.items() if found.told.leaves(name))
    kept = "" if found.told.whole else f"{group}\n"
    return f"""[split]
{_told(found.told)}{drawn}{kept}seed = 11
"""


def _told(told: ToldParts) -> str:
    if told.column:
        return f"column = {quoted(told.column):<18} # says which part a row is in\n"
    return f"files = {inline(told.files)}     # their rows are that part\n" if told.files else ""


def _markup(found: Found) -> str:
    if found.kind.name == "text":
        return 'markup = "plain"            # texts as they are, without roles\n'
    return (
        'markup = "headings"         # not the base\'s own, which does not take these rows\n' if found.headings else ""
    )


def _objective(kind: Kind) -> str:
    if kind.name == "graded":  # the best answer stands in several pairs
        return 'objective = "odds"          # holds the chosen reply against each rejected one\n'
    paired = kind.name in ("preference", "picked", "compared")
    return '# objective = "odds"        # holds the chosen reply against the rejected one\n' if paired else ""


def _score(found: Found) -> str:
    kind = found.kind
    if kind.name == "text":  # nothing is asked
        return f'[score]\nmeasures = ["loss"]\n{_GENERAL}'
    of_answers = '"label", "f1"' if kind.name in ("label", "grouped", "choices", "ticked") else '"exact", "similarity"'
    if found.replies:
        of_answers = f'"exact", "{_MEASURES[found.replies]}"'
    if kind.name == "graded":  # each row is a pair
        of_answers = f'"ranked", {of_answers}'
    after = f"after = {quoted(found.after):<19} # answers are measured from behind it\n" if found.after else ""
    return f"""[score]
measures = ["loss", {of_answers}]
{after}{_GENERAL}
[[score.contender]]
name = "base with 3 shots"
shots = 3
"""
