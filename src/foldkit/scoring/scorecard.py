"""The making of a scorecard: contenders measured on the same rows, held against the base, with a verdict."""

from __future__ import annotations

import dataclasses
import functools
from collections import Counter
from collections.abc import Container, Iterable, Mapping, Sequence
from dataclasses import dataclass, field
from typing import Any

import numpy as np

from .card import ContenderScore, Difference, Floor, Scorecard
from .figures import Compared, Figures, compare
from .intervals import Interval, Resamples, holm, paired_test, rows_needed
from .measures import Form, Measure, Reply, field_matches, label_pair, parse
from .measures.measure import mean
from .measures.similarity import SIMILARITY
from .settings import ScoreSettings

VERSION = 3
ALPHA = 0.05
# Measures that hold the answer against the target.
_OF_ANSWERS = frozenset(
    ("exact", "normalised", "label", "f1", "fields", "items", "numbers", "similarity", "characters", "words")
)
Row = Mapping[str, str]


@dataclass(frozen=True)
class Given:
    """What one contender gave: its replies to all rows, mean prompt tokens, losses of general texts by piece.

    `general` has for each text the summed loss and the tokens of each piece; `reworded` the replies to the same rows,
    by what reworded their prompts; `pieces` are the target's tokens as text.
    """

    name: str
    replies: Sequence[Reply]
    prompt_tokens: float
    general: Mapping[str, tuple[Sequence[float], Sequence[int]]] = field(default_factory=dict)
    reworded: Mapping[str, Sequence[Reply]] = field(default_factory=dict)
    pieces: Sequence[Sequence[str]] = ()


@dataclass(frozen=True)
class Asked:
    """What the rows are: number and cells of each, prompts as text, groups to resample, and how far from train each is.

    `near` says of each row how alike its nearest row of train is (0 to 1); `train_replies` are those of train, and how
    often each stands there; `columns` are what stands in each row of those of the prompt.
    """

    rows: Sequence[tuple[int, Row]]
    prompts: Sequence[str]
    groups: Sequence[str]
    near: Sequence[float] = ()
    train_replies: Counter[str] = field(default_factory=Counter)
    columns: Mapping[str, Sequence[str]] = field(default_factory=dict)
    leaks: Sequence[str] = ()
    suspects: Sequence[dict[str, Any]] = ()
    form: Form = field(default_factory=Form)


def make_scorecard(
    given: Sequence[Given],
    asked: Asked,
    settings: ScoreSettings,
    signed: Mapping[str, Any],
    measures: Sequence[Measure],
) -> Scorecard:
    """Measure every contender against the first one, which is the base.

    Raises ValueError when a contender lacks rows.
    """
    for contender in given:
        if len(contender.replies) != len(asked.rows):
            raise ValueError(f"{contender.name} gave {len(contender.replies)} replies to {len(asked.rows)} rows")
    resamples = Resamples(asked.groups, settings.seed)
    scoring = _Scoring(asked, settings, resamples, measures, _places(asked, settings.by))
    figures = [scoring.figures(contender.replies) for contender in given]
    scores = tuple(
        scoring.score(contender, own, given[0], figures[0]) for contender, own in zip(given, figures, strict=True)
    )
    kept = tuple(_kept_row(index, asked, given, figures) for index in range(len(asked.rows)))
    return Scorecard(
        len(asked.rows),
        resamples.n_groups,
        {"version": VERSION, **signed},
        scores,
        {value: len(indices) for value, indices in scoring.places.items()},
        {name: len(indices) for name, indices in scoring.far_places.items()},
        tuple(asked.leaks),
        _confused(scoring.behind(given[-1].replies), asked, settings),
        tuple(asked.suspects),
        _share_of_train([reply.target for reply in given[0].replies], asked),
        _commonest([reply.target for reply in given[0].replies]),
        _floors(scoring.behind(given[-1].replies), figures[-1], scoring),
        kept,
    )


@dataclass(frozen=True)
class _Scoring:
    """What the scores of all contenders share."""

    asked: Asked
    settings: ScoreSettings
    resamples: Resamples
    measures: Sequence[Measure]
    places: Mapping[str, Sequence[int]]

    def figures(self, replies: Sequence[Reply]) -> dict[str, Figures]:
        """Return the figures of the rows by each measure that these replies have what it needs for."""
        behind = self.behind(replies)
        return {m.name: Figures.of(m, behind, self.asked.form) for m in self.measures if m.fits(behind)}

    def behind(self, replies: Sequence[Reply]) -> list[Reply]:
        """Return what is measured of replies."""
        return [reply.behind(self.settings.after) for reply in replies]

    @property
    def far_places(self) -> dict[str, list[int]]:
        """The rows nearest to train, about half of them, and the others; nothing where all are alike or none is known.

        Rows that are as near as one another stay together.
        """
        near = np.array(self.asked.near)
        if not len(near) or near.min() == near.max():
            return {}
        middle = np.median(near)
        is_near = min((near > middle, near >= middle), key=lambda half: abs(half.mean() - 0.5))
        return {"near": np.flatnonzero(is_near).tolist(), "far": np.flatnonzero(~is_near).tolist()}

    def score(
        self, given: Given, own: Mapping[str, Figures], base: Given, of_base: Mapping[str, Figures]
    ) -> ContenderScore:
        """Return all figures of one contender."""
        replies = given.replies
        tokens = sum(reply.n_tokens for reply in replies) / len(replies)
        return ContenderScore(
            given.name,
            given.prompt_tokens,
            tokens,
            self._cost(given, tokens),
            {name: one.interval(self.resamples) for name, one in own.items()},
            {} if given is base else self._differences(own, of_base),
            _field_shares(own["fields"].replies, self.asked.form) if "fields" in own else {},
            {place: _wholes_of(own, rows) for place, rows in self.places.items()},
            {place: _wholes_of(own, rows) for place, rows in self.far_places.items()},
            _share_of_train([reply.answer for reply in replies], self.asked),
            sum(not reply.ended for reply in replies) / len(replies),
            _commonest({p: reply.answer for p, reply in zip(self.asked.prompts, replies, strict=True)}.values()),
            _general(given, base, self.settings.seed),
            {how: _wholes_of(self.figures(said), range(len(said))) for how, said in given.reworded.items()},
        )

    def of(self, names: Container[str]) -> _Scoring:
        """Return the same with the measures of these names alone."""
        return dataclasses.replace(self, measures=[measure for measure in self.measures if measure.name in names])

    def floor(
        self, kind: str, text: str, replies: Sequence[Reply], own: Mapping[str, Figures], share: float = 0.0
    ) -> Floor:
        """Return what these replies reach, and how a contender's own figures differ from that."""
        reached = self.figures(replies)
        intervals = {name: one.interval(self.resamples) for name, one in reached.items()}
        return Floor(kind, text, intervals, self._differences(own, reached), share)

    def _differences(self, own: Mapping[str, Figures], of_base: Mapping[str, Figures]) -> dict[str, Difference]:
        """Return the difference by each measure, whose p-values are corrected for how many they are."""
        found = {n: compare(one, of_base[n], self.resamples) for n, one in own.items() if n in of_base}
        known = {name: one for name, one in found.items() if one}
        p_values = holm([one.p for one in known.values()])
        return {
            name: self._told(own[name].measure, one, p) for (name, one), p in zip(known.items(), p_values, strict=True)
        }

    def _told(self, measure: Measure, one: Compared, p: float) -> Difference:
        worth = self.settings.worth_of(measure.name) if measure.high == 1 else 0.0
        word = verdict(one.interval, p, measure.higher_is_better)
        return Difference(one.interval, word, p, worth, rows_needed(one.spread, worth) if worth else 0)

    def _cost(self, given: Given, answer_tokens: float) -> float | None:
        """Return what a thousand requests cost by the user's prices, None where there are none."""
        prices = self.settings.prices.get(given.name, self.settings.prices.get("all"))
        if prices is None:
            return None
        return (given.prompt_tokens * prices[0] + answer_tokens * prices[1]) / 1e6 * 1000


def _floors(replies: Sequence[Reply], figures: Mapping[str, Figures], scoring: _Scoring) -> tuple[Floor, ...]:
    """Return what is reached without a model, of what the measures need, beside the last contender's replies."""
    asked, found, against = scoring.asked, list[Floor](), scoring.of(_OF_ANSWERS)
    if against.measures and asked.train_replies:
        ((answer, n),) = asked.train_replies.most_common(1)
        same = [Reply(own.target, answer, row=own.row) for own in replies]
        found.append(against.floor("reply", answer, same, figures, n / asked.train_replies.total()))
    if against.measures and asked.columns:
        targets = [own.target for own in replies]
        column = max(asked.columns, key=lambda name: _similarity(asked.columns[name], targets))
        cells = zip(replies, asked.columns[column], strict=True)
        found.append(
            against.floor("column", column, [Reply(own.target, cell, row=own.row) for own, cell in cells], figures)
        )
    paired = scoring.of({"ranked"})
    if paired.measures and all(own.losses and own.rejected for own in replies):
        by_length = [np.sign(len(own.rejected) - len(own.losses)) for own in replies]
        better = 1 if sum(by_length) >= 0 else -1
        ranked = [
            Reply(own.target, "", [0.0], rejected=[better * n]) for own, n in zip(replies, by_length, strict=True)
        ]
        found.append(paired.floor("length", "shorter" if better > 0 else "longer", ranked, figures))
    return tuple(found)


def _similarity(answers: Sequence[str], targets: Sequence[str]) -> float:
    each = [SIMILARITY.figure(Reply(target, answer), Form()) for answer, target in zip(answers, targets, strict=True)]
    return float(np.mean(each))


def verdict(difference: Interval, p: float, higher_is_better: bool) -> str:
    """Say in a word what a difference means: it counts when its interval leaves out zero and the test agrees."""
    if difference.low <= 0 <= difference.high or p >= ALPHA:
        return "cannot tell"
    return "better" if (difference.value > 0) == higher_is_better else "worse"


def _wholes_of(figures: Mapping[str, Figures], places: Sequence[int]) -> dict[str, float]:
    """Return what some rows make as a whole by each measure by which they have a weight."""
    known = {name: one for name, one in figures.items() if one.weights[list(places)].any()}
    return {name: one.whole_of(places) for name, one in known.items()}


def _general(given: Given, base: Given, seed: int) -> dict[str, Difference | Interval]:
    """Return the loss per token of each general text, and of all but the base its difference, pieces resampled."""
    found: dict[str, Difference | Interval] = {}
    for text, (sums, counts) in given.general.items():
        resamples = Resamples([str(index) for index in range(len(sums))], seed)
        tokens = np.array(counts, dtype=float)
        own = resamples.each(functools.partial(mean, np.array(sums) / tokens, tokens))
        found[text] = resamples.interval(own)
        if given is not base and text in base.general:
            of_base = np.array(base.general[text][0])
            interval = resamples.interval(own - resamples.each(functools.partial(mean, of_base / tokens, tokens)))
            p = paired_test(np.array(sums) - of_base, resamples, share=False)
            word = {"better": "better", "worse": "forgot", "cannot tell": "cannot tell"}[verdict(interval, p, False)]
            found[f"{text}, difference"] = Difference(interval, word, p)
    return found


def _field_shares(replies: Sequence[Reply], form: Form) -> dict[str, float]:
    matches = [field_matches(reply, form) for reply in replies]
    names = dict.fromkeys(name for match in matches for name in match)
    having = {name: [match[name] for match in matches if name in match] for name in names}
    return {name: sum(right) / len(right) for name, right in having.items()}


def _confused(replies: Sequence[Reply], asked: Asked, settings: ScoreSettings) -> tuple[tuple[str, str, int], ...]:
    """Return the commonest wrong labels, or values of fields: target, answer, how often."""
    found: Counter[tuple[str, str]] = Counter()
    if {"label", "f1"} & set(settings.measures):
        found.update((target, answer) for reply in replies for target, answer in [label_pair(reply)])
    if "fields" in settings.measures:
        for reply in replies:
            said = parse(reply.answer, asked.form) or {}
            found.update(
                (f"{k}: {v}", f"{k}: {said.get(k, '')}") for k, v in (parse(reply.target, asked.form) or {}).items()
            )
    wrong = [(target, answer, count) for (target, answer), count in found.most_common() if target != answer]
    return tuple(wrong[:20])


def _share_of_train(texts: Sequence[str], asked: Asked) -> float:
    """Return the share of texts that are a reply of train to the letter."""
    return sum(text.strip() in asked.train_replies for text in texts) / len(texts)


def _commonest(texts: Iterable[str]) -> tuple[str, int]:
    """Return the text that stands most often, blanks around it aside, and how often."""
    return Counter(text.strip() for text in texts).most_common(1)[0]


def _places(asked: Asked, by: str) -> dict[str, list[int]]:
    places: dict[str, list[int]] = {}
    if by:
        for index, (_, row) in enumerate(asked.rows):
            places.setdefault(row[by] or "blank", []).append(index)
    return dict(sorted(places.items()))


def _kept_row(
    index: int, asked: Asked, given: Sequence[Given], figures: Sequence[Mapping[str, Figures]]
) -> dict[str, Any]:
    number, _ = asked.rows[index]
    kept: dict[str, Any] = {"row": number, "prompt": asked.prompts[index]}
    kept |= {"target": given[0].replies[index].target, "contenders": {}}
    for contender, own in zip(given, figures, strict=True):
        reply = contender.replies[index]
        figure = {name: one.measure.after(float(one.of_rows[index])) for name, one in own.items()}
        kept["contenders"][contender.name] = {
            "answer": reply.answer,
            "tokens": len(reply.losses),
            "answer_tokens": reply.n_tokens,
            **figure,
        }
    last = given[-1]
    if last.pieces:
        kept["token_losses"] = list(zip(last.pieces[index], last.replies[index].losses, strict=True))
    return kept
