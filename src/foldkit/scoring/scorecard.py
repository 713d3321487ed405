"""The scorecard: measured contenders side by side, with intervals and a verdict."""

from __future__ import annotations

import dataclasses
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from typing import Any

from .intervals import Interval, mean_interval, paired_interval
from .measures import MEASURES, Reply, field_matches
from .settings import ScoreSettings

VERSION = 1
Row = Mapping[str, str]


@dataclass(frozen=True)
class Difference:
    """A contender's figure less the base's on the same rows, and what it means in a word."""

    interval: Interval
    word: str


@dataclass(frozen=True)
class ContenderScore:
    """All figures of one contender. `fields` has the share right of each field, `by` the figures of each group."""

    name: str
    prompt_tokens: float
    measures: dict[str, Interval]
    differences: dict[str, Difference]
    fields: dict[str, float]
    by: dict[str, dict[str, float]]
    general_loss: float | None = None


@dataclass(frozen=True)
class Scorecard:
    """What was measured, on what, with which settings; `rows` keeps the figures of every row.

    `signed` holds version, seed, fingerprints and settings, so that every figure can be traced.
    """

    n_rows: int
    n_groups: int
    signed: dict[str, Any]
    contenders: tuple[ContenderScore, ...]
    by_counts: dict[str, int] = field(default_factory=dict)
    rows: tuple[dict[str, Any], ...] = ()

    def as_mapping(self) -> dict[str, Any]:
        """Return everything but the rows, for JSON."""
        values = dataclasses.asdict(self)
        del values["rows"]
        return values

    def contender(self, name: str) -> ContenderScore:
        """Return the score of the contender of that name. Raises KeyError when there is none."""
        return {score.name: score for score in self.contenders}[name]


@dataclass(frozen=True)
class Given:
    """What one contender gave: its replies to all rows, mean prompt tokens, loss on general text."""

    name: str
    replies: Sequence[Reply]
    prompt_tokens: float
    general_loss: float | None = None


def make_scorecard(
    given: Sequence[Given],
    rows: Sequence[tuple[int, Row]],
    groups: Sequence[str],
    settings: ScoreSettings,
    signed: Mapping[str, Any],
) -> Scorecard:
    """Measure every contender against the first one, which is the base.

    `groups` names for each row the group it is resampled with. Raises ValueError when a contender lacks rows.
    """
    for contender in given:
        if len(contender.replies) != len(rows):
            raise ValueError(f"{contender.name} gave {len(contender.replies)} replies to {len(rows)} rows")
    figures = [_figures(contender, settings) for contender in given]
    places = _places(rows, settings.by)
    scores = tuple(
        _score(contender, own, figures[0], places, groups, settings)
        for contender, own in zip(given, figures, strict=True)
    )
    kept = tuple(_kept_row(index, rows, given, figures) for index in range(len(rows)))
    counts = {value: len(indices) for value, indices in places.items()}
    return Scorecard(len(rows), len(set(groups)), {"version": VERSION, **signed}, scores, counts, kept)


Figures = dict[str, list[float]]


def _figures(given: Given, settings: ScoreSettings) -> Figures:
    return {
        name: [MEASURES[name].figure(reply, settings.pattern) for reply in given.replies] for name in settings.measures
    }


def _score(
    given: Given,
    own: Figures,
    base: Figures,
    places: Mapping[str, Sequence[int]],
    groups: Sequence[str],
    settings: ScoreSettings,
) -> ContenderScore:
    measured, differences = {}, {}
    for name, figures in own.items():
        weights = _weights(name, given.replies)
        is_share = set(figures) <= {0.0, 1.0} and MEASURES[name].high == 1
        measured[name] = mean_interval(figures, weights, groups, settings.seed, is_share=is_share)
        if own is not base:
            interval = paired_interval(base[name], figures, weights, groups, settings.seed)
            differences[name] = Difference(interval, verdict(interval, MEASURES[name].higher_is_better))
    by = {value: _means(own, given.replies, indices) for value, indices in places.items()}
    fields = _field_shares(given.replies, settings.pattern) if "fields" in settings.measures else {}
    return ContenderScore(given.name, given.prompt_tokens, measured, differences, fields, by, given.general_loss)


def verdict(difference: Interval, higher_is_better: bool) -> str:
    """Say in a word what a difference means: it counts only when its interval leaves out zero."""
    if difference.low <= 0 <= difference.high:
        return "cannot tell"
    return "better" if (difference.low > 0) == higher_is_better else "worse"


def _weights(measure: str, replies: Sequence[Reply]) -> list[float]:
    return [MEASURES[measure].weight(reply) for reply in replies]


def _means(own: Figures, replies: Sequence[Reply], indices: Sequence[int]) -> dict[str, float]:
    means = {}
    for name, figures in own.items():
        weights = _weights(name, replies)
        means[name] = sum(figures[i] * weights[i] for i in indices) / sum(weights[i] for i in indices)
    return means


def _field_shares(replies: Sequence[Reply], pattern: str) -> dict[str, float]:
    matches = [field_matches(reply, pattern) for reply in replies]
    return {name: sum(match[name] for match in matches) / len(matches) for name in matches[0]}


def _places(rows: Sequence[tuple[int, Row]], by: str) -> dict[str, list[int]]:
    places: dict[str, list[int]] = {}
    if by:
        for index, (_, row) in enumerate(rows):
            places.setdefault(row[by] or "blank", []).append(index)
    return dict(sorted(places.items()))


def _kept_row(
    index: int, rows: Sequence[tuple[int, Row]], given: Sequence[Given], figures: Sequence[Figures]
) -> dict[str, Any]:
    number, _ = rows[index]
    kept: dict[str, Any] = {"row": number, "target": given[0].replies[index].target, "contenders": {}}
    for contender, own in zip(given, figures, strict=True):
        reply = contender.replies[index]
        figure = {name: values[index] for name, values in own.items()}
        kept["contenders"][contender.name] = {"answer": reply.answer, "tokens": reply.n_tokens, **figure}
    return kept
