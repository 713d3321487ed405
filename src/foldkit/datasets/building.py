"""Rows to examples: rendered, encoded, assigned to parts; what cannot be used is set aside with its reason."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field

import pandas as pd

from foldkit.formats import fingerprint_value
from foldkit.rows.reading import column
from foldkit.templates import Template
from foldkit.tokens import Encoded, Encoder

from .pairs import pairs_of, rows_of
from .splitting import PARTS, SplitSettings, assign_parts


@dataclass(frozen=True)
class Example:
    """One tokenised row: its number, token ids, and for each id whether it is learned."""

    row: int
    ids: tuple[int, ...]
    learned: tuple[bool, ...]

    @property
    def n_learned(self) -> int:
        """Count of learned tokens."""
        return sum(self.learned)


@dataclass(frozen=True)
class SetAside:
    """A row that is in no part, and why."""

    row: int
    reason: str
    cells: Mapping[str, str] = field(default_factory=dict)


@dataclass(frozen=True)
class Dataset:
    """Examples by part, the rows set aside, and things worth saying."""

    parts: dict[str, tuple[Example, ...]]
    set_aside: tuple[SetAside, ...]
    fingerprint: str
    notes: tuple[str, ...] = field(default=())

    def counts(self) -> dict[str, dict[str, int]]:
        """Return rows, tokens, learned tokens and the longest example of each part."""
        return {
            part: {
                "rows": len(examples),
                "tokens": sum(len(e.ids) for e in examples),
                "learned": sum(e.n_learned for e in examples),
                "longest": max((len(e.ids) for e in examples), default=0),
            }
            for part, examples in self.parts.items()
        }


def build_dataset(
    table: pd.DataFrame, template: Template, encoder: Encoder, split: SplitSettings, window: int
) -> Dataset:
    """Render and encode every row and put it into its part.

    A row with a blank where its template needs text, and a row longer than `window` tokens, are set aside by name.
    Raises InputError when the template names a column that the rows do not have.
    """
    for slot in template.slots():
        column(table, slot, f"template {template.name!r}")
    parts = assign_parts(table, split, pairs_of(table, template) if split.group == "near" else None)
    placed: dict[str, list[Example]] = {part: [] for part in PARTS}
    set_aside: list[SetAside] = []
    for row, values in rows_of(table):
        example = _encode(row, values, template, encoder, window)
        if isinstance(example, SetAside):
            set_aside.append(example)
        else:
            placed[str(parts[row])].append(example)
    examples = {part: tuple(found) for part, found in placed.items()}
    whole = {part: [[e.row, *e.ids, *map(int, e.learned)] for e in found] for part, found in examples.items()}
    notes = (*_unused(table, template), *_encoding_notes(table, examples, template, encoder))
    return Dataset(examples, tuple(set_aside), fingerprint_value(whole), notes)


def _encode(
    row: int, values: Mapping[str, str], template: Template, encoder: Encoder, window: int
) -> Example | SetAside:
    blank = [slot for slot in template.needed_slots(values) if not values[slot].strip()]
    if blank:
        return SetAside(row, f"blank: {', '.join(blank)}", values)
    try:
        turns = template.turns(values)
    except ValueError as error:
        return SetAside(row, str(error), values)
    empty = [turn for turn in turns if turn.learned and not turn.text.strip()]
    if empty or not any(turn.learned for turn in turns):
        return SetAside(row, "no reply to learn" if not empty else "an empty reply", values)
    encoded = encoder.example(turns)
    if len(encoded.ids) > window:
        return SetAside(row, f"{len(encoded.ids)} tokens, the window is {window}", values)
    return Example(row, encoded.ids, encoded.learned)


def _unused(table: pd.DataFrame, template: Template) -> list[str]:
    unused = [str(name) for name in table.columns if name not in template.slots()]
    return [f"columns the template does not use: {', '.join(unused)}"] if unused else []


def _encoding_notes(
    table: pd.DataFrame, parts: Mapping[str, tuple[Example, ...]], template: Template, encoder: Encoder
) -> list[str]:
    """Say which rows have a prompt that ends in a blank, and which targets the tokenizer cannot give back."""
    rows, decode = dict(rows_of(table)), encoder.tokenizer.decode
    blank_ends, lossy = [], []
    for example in sorted((e for part in parts.values() for e in part), key=lambda e: e.row):
        n_prompt = Encoded(example.ids, example.learned).n_prompt
        if decode(example.ids[:n_prompt], keep_control=True).endswith((" ", "\t")):
            blank_ends.append(example.row)
        target = template.target(rows[example.row])
        if decode(example.ids[n_prompt:-1], keep_control=True) not in (target, target.strip()):
            lossy.append(example.row)
    said = [(blank_ends, "the prompt ends in a blank"), (lossy, "the tokenizer does not give the target back exactly")]
    return [f"{what} in {len(found)} rows, first {found[0]}" for found, what in said if found]
