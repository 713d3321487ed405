"""Checks of preference rows: what two replies to one prompt would teach that nobody meant."""

from __future__ import annotations

import statistics
from collections.abc import Iterable, Mapping
from dataclasses import dataclass

import pandas as pd

from foldkit.rows.near import plain
from foldkit.templates import Template

from .checks import Finding
from .pairs import pairs_of

# A side that is longer in more rows than chance would make it, and in so large a share of them.
_CHANCE, _LONGER_SHARE = 0.01, 0.6
# Good replies for each bad one, or the other way round, up to which weights need no care.
_UNEVEN = 4 / 3


@dataclass(frozen=True)
class Choice:
    """The prompt of a row, its chosen and its rejected reply; one of the two may be "" where the row has none."""

    prompt: str
    chosen: str
    rejected: str


def choices_of(table: pd.DataFrame, template: Template) -> dict[int, Choice]:
    """Return prompt and replies of every row that can be used, by row number."""
    return {
        row: Choice(pair.prompt, "" if pair.bad else pair.reply, pair.reply if pair.bad else pair.rejected)
        for row, pair in pairs_of(table, template).items()
    }


def check_choices(choices: Mapping[int, Choice]) -> list[Finding]:
    """Return what is odd: replies that are the same, choices that contradict, a side that is longer throughout.

    Of rows with one reply alone: a reply that is good in one and bad in another, and far more of one kind.
    """
    both = {row: one for row, one in choices.items() if one.chosen and one.rejected}
    single = {row: one for row, one in choices.items() if row not in both}
    found = (_same(both), _contradicting(both), _longer(both), _both_kinds(single), _uneven(choices))
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


def _both_kinds(choices: Mapping[int, Choice]) -> Finding | None:
    good = {(plain(c.prompt), plain(c.chosen)) for c in choices.values() if c.chosen}
    hits = [row for row, c in choices.items() if c.rejected and (plain(c.prompt), plain(c.rejected)) in good]
    return _finding("good and bad", "a reply that is bad here is good in another row", hits, choices)


def _uneven(choices: Mapping[int, Choice]) -> Finding | None:
    """Say that one kind of reply is far rarer, and which weights make up for it (Ethayarajh et al. 2024, eq. 9)."""
    good, bad = [row for row, c in choices.items() if c.chosen], [row for row, c in choices.items() if c.rejected]
    fewer, more = sorted((good, bad), key=len)
    if len(more) <= _UNEVEN * len(fewer):
        return None
    name = "good" if fewer is good else "bad"
    evens = f"a weight of {len(more) / len(fewer):.1f} for `{name}` in [train.pairs] evens it" if fewer else ""
    says = f"{len(good)} good and {len(bad)} bad replies: {evens or 'both kinds are needed'}"
    return Finding("uneven kinds", says, tuple(fewer), _text_of(choices[(fewer or more)[0]]))


def _text_of(choice: Choice) -> str:
    return choice.rejected or choice.chosen


def _sides(choices: Mapping[int, Choice]) -> tuple[list[str], list[str]]:
    return [one.chosen for one in choices.values()], [one.rejected for one in choices.values()]


def _finding(name: str, says: str, hits: Iterable[int], choices: Mapping[int, Choice]) -> Finding | None:
    rows = tuple(hits)
    return Finding(name, says, rows, _text_of(choices[rows[0]])) if rows else None
