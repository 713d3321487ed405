"""Checks of preference rows: what two replies to one prompt would teach that nobody meant."""

from __future__ import annotations

import statistics
from collections.abc import Iterable, Mapping
from dataclasses import dataclass

import pandas as pd

from foldkit.rows.near import plain
from foldkit.rows.tables import rows_of
from foldkit.templates import Template

from .checks import Finding

# A side that is longer in more rows than chance would make it, and in so large a share of them.
_CHANCE, _LONGER_SHARE = 0.01, 0.6


@dataclass(frozen=True)
class Choice:
    """The prompt of a row, its chosen and its rejected reply."""

    prompt: str
    chosen: str
    rejected: str


def choices_of(table: pd.DataFrame, template: Template) -> dict[int, Choice]:
    """Return prompt and replies of every row that has all three, by row number."""
    found = {}
    needed = template.rejected_slots()
    for row, values in rows_of(table):
        if any(not values[slot].strip() for slot in (*template.needed_slots(values), *needed)):
            continue
        try:
            prompt, chosen = template.prompt_turns(values), template.target(values)
        except (ValueError, IndexError):
            continue
        found[row] = Choice("\n\n".join(turn.text for turn in prompt), chosen, template.rejected(values))
    return found


def check_choices(choices: Mapping[int, Choice]) -> list[Finding]:
    """Return what is odd: replies that are the same, choices that contradict, a side that is longer throughout."""
    found = (_same(choices), _contradicting(choices), _longer(choices))
    return [finding for finding in found if finding]


def _same(choices: Mapping[int, Choice]) -> Finding | None:
    hits = [row for row, one in choices.items() if plain(one.chosen) == plain(one.rejected)]
    return _finding("same reply", "chosen and rejected are the same text", hits, choices)


def _contradicting(choices: Mapping[int, Choice]) -> Finding | None:
    made = {(plain(c.prompt), plain(c.chosen), plain(c.rejected)) for c in choices.values()}
    turned = (
        row
        for row, c in choices.items()
        if plain(c.chosen) != plain(c.rejected) and (plain(c.prompt), plain(c.rejected), plain(c.chosen)) in made
    )
    return _finding("contradicting choices", "another row prefers the other of the same two replies", turned, choices)


def _longer(choices: Mapping[int, Choice]) -> Finding | None:
    """Say that one side is longer in more rows than chance would make it: the length alone may be learned."""
    from scipy.stats import binomtest

    longer = [row for row, one in choices.items() if len(one.rejected) > len(one.chosen)]
    shorter = [row for row, one in choices.items() if len(one.rejected) < len(one.chosen)]
    n_apart, hits = len(longer) + len(shorter), max(longer, shorter, key=len)
    if not n_apart or len(hits) / n_apart < _LONGER_SHARE or binomtest(len(hits), n_apart).pvalue > _CHANCE:
        return None
    chosen, rejected = (statistics.mean(map(len, side)) for side in _sides(choices))
    says = (
        f"rejected replies are {'longer' if hits is longer else 'shorter'} in {len(hits)} of {n_apart} rows, "
        f"{rejected:.0f} characters against {chosen:.0f} in the mean: the length alone may be learned"
    )
    return _finding("length", says, hits, choices)


def _sides(choices: Mapping[int, Choice]) -> tuple[list[str], list[str]]:
    return [one.chosen for one in choices.values()], [one.rejected for one in choices.values()]


def _finding(name: str, says: str, hits: Iterable[int], choices: Mapping[int, Choice]) -> Finding | None:
    rows = tuple(hits)
    return Finding(name, says, rows, choices[rows[0]].rejected) if rows else None
