"""A template held against its rows and the base's markup: what would teach a model something that nobody meant."""

from __future__ import annotations

import json
import re
from collections.abc import Collection, Iterable, Iterator, Sequence

import pandas as pd

from foldkit.formats import InputError, listed
from foldkit.rows import Rows
from foldkit.rows.tables import rows_of
from foldkit.templates import Template, Turn, outline_of
from foldkit.tokens import Layout

from .checks import Finding, swapped
from .coding import ODD, OWN_END, Coder, code_stream
from .pairs import pairs_of
from .unused import unused

_AT_ONCE = 5_000
# Names of lists, which are given with the turns or not at all.
_LISTS = ("tools", "documents")


def lint_template(table: pd.DataFrame, coder: Coder, besides: Collection[str] = ()) -> list[Finding]:
    """Return what is odd in a template, the worst first; columns named in `besides` are used elsewhere.

    A slot that no column fills hides the rest, for no row can be rendered then.
    """
    unfilled = [slot for slot in coder.template.slots() if slot not in table.columns]
    if unfilled:
        says = f"the rows have no column {', '.join(map(repr, unfilled))}; they have {listed(list(table))}"
        return [Finding("unfilled slot", says, (), "")]
    found = _markup_findings(coder, table)
    if any(finding.name == "unusable markup" for finding in found):
        return found
    empty, odd = list[int](), dict[str, list[int]]((name, []) for name in ODD)
    for _, coded in code_stream(_pieces(table), coder):
        empty += [row.row for row in coded.set_aside if row.reason in ("an empty reply", "no reply to learn")]
        for name, rows in coded.odd.items():
            odd[name] += rows
    found += [
        *_finding("empty reply", "a learned turn comes out with no text", empty, _can_be_empty(coder.template)),
        *(one for name, rows in odd.items() for one in _finding(name, ODD[name], rows, "")),
        *_control_tokens(table, coder),
    ]
    if turned := swapped(pairs_of(table, coder.template)):
        found.append(turned)
    if _after_last_learned(coder.template):
        found.append(Finding("unused turns", "turns after the last learned one are left out", (), ""))
    if left := unused(table, coder.template, besides):
        found.append(Finding("unused columns", listed(left), (), ""))
    return found


def _pieces(table: pd.DataFrame) -> Iterator[Rows]:
    """Yield a table in pieces, so that not all of what it becomes is held at once."""
    for start in range(0, len(table), _AT_ONCE):
        yield Rows(table.iloc[start : start + _AT_ONCE], (), ())


def _markup_findings(coder: Coder, table: pd.DataFrame) -> list[Finding]:
    """Say whether the markup can be used at all, closes what is learned, and adds a text of its own."""
    encoder = coder.encoder
    turns = _first_turns(table, coder.template)
    if not turns:
        return [Finding("no usable row", "every row lacks a text that the template needs", (), "")]
    try:
        layout, _ = encoder.laid_out(outline_of(turns), [turn.text for turn in turns])
    except InputError as error:
        return [Finding("unusable markup", str(error), (), "")]
    found = _finding_of_opening(layout, encoder.blanks)
    found += [Finding("an end of its own", OWN_END, (), encoder.own_end)] if encoder.own_end else []
    markup = encoder.markup
    added = " ".join(filter(None, (_words(piece, encoder.tokenizer.control_tokens) for piece in layout.pieces)))
    has_system = any(turn.role == "system" for turn in turns)
    says = "the base's markup writes a text of its own" + ("" if has_system else "; a system turn may replace it")
    found += [Finding("added text", says, (), added)] if added else []
    told = [f"{name} = {json.dumps(value)}" for name, value in markup.values]
    told += [f"{name} has none" for name in markup.open_names if name not in _LISTS]
    says = "the base's markup reads these beside the turns; [base.markup_values] gives them values"
    return found + ([Finding("markup values", says, (), ", ".join(told))] if told else [])


def _finding_of_opening(layout: Layout, blanks: str) -> list[Finding]:
    """Say that the markup asks for a reply otherwise than it writes one, but for blanks, which begin the reply."""
    asks, written = layout.asked.pieces[-1], layout.ending.pieces[0]
    if written in (asks, asks + blanks):
        return []
    says = "the base's markup opens a reply otherwise when it asks for one; it is learned after what asks for it"
    return [Finding("another opening", says, (), f"{asks!r} asks, {written!r} is written")]


def _first_turns(table: pd.DataFrame, template: Template) -> Sequence[Turn]:
    for _, row in rows_of(table):
        if all(row[slot].strip() for slot in template.needed_slots(row)):
            try:
                turns = template.turns(row)
            except ValueError:
                continue
            if any(turn.learned for turn in turns):
                return turns
    return ()


def _words(piece: str, control_tokens: Iterable[str]) -> str:
    """Return the running text of a piece of markup: two words or more beside markers and names of roles."""
    for token in control_tokens:
        piece = piece.replace(token, "\n")
    lines = (line.strip() for line in piece.splitlines())
    return " ".join(line for line in lines if len(re.findall(r"[^\W\d_]{2,}", line)) > 1)


def _can_be_empty(template: Template) -> str:
    """Return the learned turns all of whose text is optional, in words."""
    numbers = [str(n) for n, p in enumerate(template.turn, 1) if p.learned and not p.each and not p.text.strip()]
    return f"turn {', '.join(numbers)} has only parts that stand where a slot is filled" if numbers else ""


def _control_tokens(table: pd.DataFrame, coder: Coder) -> list[Finding]:
    tokens = [token for token in coder.encoder.tokenizer.control_tokens if len(token) > 2]
    if not tokens:
        return []
    pattern = "|".join(map(re.escape, tokens))
    hits: dict[int, str] = {}
    for slot in coder.template.slots():
        cells = table[slot]
        found = cells[cells.str.contains(pattern, regex=True)]
        hits |= dict(zip(found.index.tolist(), found.tolist(), strict=True))
    says = "row text that looks like a control token of the base; it is kept as plain text"
    return _finding("control token in text", says, sorted(hits), next(iter(hits.values()), ""))


def _after_last_learned(template: Template) -> bool:
    return not template.turn[-1].learned


def _finding(name: str, says: str, rows: Sequence[int], example: str) -> list[Finding]:
    return [Finding(name, says, tuple(rows), example)] if rows else []
