"""Measures against other libraries and hand-made tables, intervals and tests by simulation, the scorecard."""

from __future__ import annotations

import dataclasses
import difflib
import functools
import io
import itertools
import json
import math
import tracemalloc
from collections import Counter
from collections.abc import Sequence
from pathlib import Path
from typing import Any

import numpy as np
import pandas as pd
import pytest
import scipy.stats
from sacrebleu.metrics.bleu import BLEU

from foldkit.formats import InputError, UsageError
from foldkit.scoring import (
    MEASURES,
    Asked,
    ContenderSettings,
    Form,
    Given,
    Interval,
    JudgeSettings,
    Reply,
    Resamples,
    Scorecard,
    ScoreSettings,
    holm,
    make_scorecard,
    own_measure,
    paired_test,
    rows_needed,
    share_interval,
)
from foldkit.scoring.card import ContenderScore, Difference
from foldkit.scoring.drawing import draw_scorecard
from foldkit.scoring.intervals import no_difference
from foldkit.scoring.markdown import all_lines, confusion_rows, figure_rows, scorecard_markdown, tables
from foldkit.scoring.measures import check_schema, field_matches, parse
from foldkit.scoring.measures.labels import macro_f1
from foldkit.scoring.measures.measure import mean
from foldkit.scoring.rewording import reworded
from foldkit.scoring.scorecard import verdict
from foldkit.scoring.words import asking_lines, failures, verdict_lines

FORM = Form(r"(?P<way>[NESW]+) (?P<force>\d+)")
OF_LOSS = ("loss", "perplexity", "bits")


def reply(target: str, answer: str, loss: float = 2.0, n: int = 4, **changes: Any) -> Reply:
    given = {"losses": [loss / n] * n, "hits": [loss < 5] * n, "rejected": [0.75] * 8, "n_tokens": 3, **changes}
    return Reply(target, answer, **given)


def alone(n: int, seed: int = 0) -> Resamples:
    return Resamples([str(index) for index in range(n)], seed)


@pytest.mark.parametrize(
    ("target", "answer", "expected"),
    [
        ("SW 5", "SW 5", {"exact": 1, "normalised": 1, "fields": 1, "format": 1, "similarity": 1, "numbers": 1}),
        ("SW 5", " SW 5\n", {"exact": 1, "normalised": 1, "fields": 1, "format": 1, "similarity": 1, "length": 1}),
        ("SW 5", "sw, 5.", {"exact": 0, "normalised": 1, "label": 1, "fields": 0, "format": 0}),
        ("-1", "1", {"normalised": 0, "label": 0}),
        ("(-.5)", "−.5!", {"normalised": 1, "label": 1}),
        ("3-5", "3 5", {"normalised": 1, "label": 1}),
        ("?", "!", {"normalised": 0, "label": 0}),
        ("? ", "?", {"normalised": 1, "label": 1}),
        ("SW 5", "SW 6", {"exact": 0, "normalised": 0, "fields": 0.5, "format": 1, "similarity": 0.75, "numbers": 0}),
        ("SW 5", "N 7", {"exact": 0, "fields": 0, "format": 1, "similarity": 0.25, "length": 0.75}),
        (
            "SW 5",
            "wind SW 5",
            {"exact": 0, "fields": 0, "format": 0, "similarity": 4 / 9, "numbers": 1, "length": 4 / 9},
        ),
        ("SW 5", "", {"exact": 0, "fields": 0, "format": 0, "similarity": 0, "numbers": 0, "length": 0}),
        ("1.5 and -2", "1,5 then −2, 9", {"numbers": 2 / 3}),
        ("1,234,500.5 or 0,125", "1234500.5, 0.125", {"numbers": 1}),
        ("10,000", "10", {"numbers": 0}),
        ("12345,678 and 1,5e3", "12345.678 1500", {"numbers": 1}),
        ("no number", "none", {"numbers": 1}),
        ("SW 3-5, -2 later", "3 to 5 from SW, then −2", {"numbers": 1}),
        ("1e999", "1e999", {"numbers": 1}),
        ("rain, wind; fog", "Fog; rain, wind", {"items": 1}),
        ("rain, wind, fog", "ice,Rain , fog.", {"items": 2 / 3}),
        ("rain", "rain, wind", {"items": 2 / 3}),
        ('["rain", "wind"]', "wind, ice, ice", {"items": 1 / 2}),
        ('["rain", 5]', '[5, "rain"]', {"items": 1}),
        ("- low, fog\n- rain", "1. rain\n2. low fog\n", {"items": 1}),
        ("[]", "", {"items": 1}),
        ("[rain]", "[" * 9999, {"items": 0}),
        ("a", "calm calm calm ", {"repeats": 1, "refuses": 0}),
        ("a", "calm, calm, windy", {"repeats": 0}),
        ("- " * 9, "- " * 6 + "5", {"repeats": 0}),
        ("- " * 9, "- " * 6 + "calm calm calm ", {"repeats": 1}),
        ("a", "I’m sorry, I cannot tell.", {"refuses": 1}),
        ("a", "Sorry seas all day", {"refuses": 1}),
        ("I can't tell.", "I cannot say.", {"refuses": 0}),
        ("a", "The skipper is sorry.", {"refuses": 0}),
    ],
)
def test_measures_give_the_figures_made_by_hand(target: str, answer: str, expected: dict[str, float]) -> None:
    """Edit distances, fields, items, numbers and lengths counted by hand."""
    one = reply(target, answer)
    assert {name: MEASURES[name].figure(one, FORM) for name in expected} == pytest.approx(expected)


@pytest.mark.parametrize("name", MEASURES)
def test_every_measure_keeps_its_range_and_direction(name: str) -> None:
    """The right answer is at the good end, any answer within the range, and the name is its own."""
    measure = MEASURES[name]
    texts = ["SW 5", "N 12", "", "x" * 50, "é\n|"]
    figures = [measure.figure(reply("SW 5", answer, loss=3.0), FORM) for answer in texts]
    assert all(measure.low <= measure.after(figure) <= measure.high for figure in figures)
    assert measure.name == name
    assert measure.says
    if name == "ranked":  # of the losses of both replies, a token, whatever the answer
        assert [measure.figure(reply("", "", loss), Form()) for loss in (2.9, 3.1)] == [1, 0]
        with pytest.raises(ValueError, match="without a rejected"):
            measure.figure(Reply("", ""), Form())
    elif name in (*OF_LOSS, "tokens"):
        assert measure.figure(reply("a", "", 1.0), FORM) != measure.figure(reply("a", "", 8.0), FORM)
        assert measure.higher_is_better == (name == "tokens")
        assert not measure.fits([Reply("a", "b")])
    elif name in ("repeats", "refuses", "ended"):
        bad = reply("a", "I cannot, cannot, cannot, cannot", ended=False)
        assert measure.figure(bad, FORM) == (measure.low if measure.higher_is_better else measure.high)
    else:
        assert figures[0] == measure.high == max(figures) > min(figures)
    assert math.isfinite(measure.weight(reply("a", "b")))


@pytest.mark.parametrize("name", MEASURES)
def test_every_measure_is_the_same_in_any_order_and_of_all_rows_right(name: str) -> None:
    """Rows shuffled give the same whole; a weighted whole of equal rows is the row's own figure."""
    measure, rng = MEASURES[name], np.random.default_rng(1)
    targets = ["SW 5", "N 2", "SW 5", "E 11", "N 2", "W 4"] * 5
    replies = [
        reply(t, a, float(i + 1), 1 + i % 3) for i, (t, a) in enumerate(zip(targets, targets[::-1], strict=True))
    ]
    rows = [(index, {}) for index in range(len(replies))]

    def whole(of: Sequence[Reply]) -> float:
        asked = Asked(rows, [""] * len(of), [str(index) for index in range(len(of))], form=FORM)
        card = make_scorecard([Given("base", of, 1)], asked, ScoreSettings(measures=("exact",)), {}, [measure])
        return card.contenders[0].measures[name].value

    shuffled = [replies[index] for index in rng.permutation(len(replies))]
    assert whole(shuffled) == pytest.approx(whole(replies), rel=1e-12)
    right = [reply("SW 5", "SW 5", 2.0, 4)] * len(replies)
    one = measure.after(measure.figure(right[0], FORM))
    assert whole(right) == pytest.approx(one, rel=1e-12)


def test_the_target_costs_what_the_formulas_say() -> None:
    """Loss by token, its power of e, bits by character: sums over sums, by hand."""
    replies = [reply("abcd", "", 2.0, 4), reply("ab", "", 6.0, 2)]
    asked = Asked([(1, {}), (2, {})], ["", ""], ["1", "2"])
    measures = [MEASURES[name] for name in (*OF_LOSS, "tokens")]
    found = make_scorecard([Given("base", replies, 1)], asked, ScoreSettings(), {}, measures).contenders[0].measures
    assert found["loss"].value == pytest.approx(8 / 6)
    assert found["perplexity"].value == pytest.approx(math.exp(8 / 6))
    assert found["bits"].value == pytest.approx(8 / math.log(2) / 6)
    assert found["tokens"].value == pytest.approx(4 / 6)
    assert found["perplexity"].low == pytest.approx(math.exp(found["loss"].low), rel=1e-9)


def test_n_grams_agree_with_a_second_derivation() -> None:
    """ChrF from its definition (Popović 2015, equation 1), blanks left out, orders one to six, recall counted twice.

    BLEU of a script without blanks against the same library's own way with Han, that of Thai by its extremes.
    """
    target, answer = "sea rough, glass falling", "the sea is rough and falling"

    def grams(text: str, n: int) -> Counter[str]:
        joined = text.replace(" ", "")
        return Counter(joined[i : i + n] for i in range(len(joined) - n + 1))

    precision = recall = 0.0
    for n in range(1, 7):
        a, b = grams(answer, n), grams(target, n)
        common = sum((a & b).values())
        precision, recall = precision + common / sum(a.values()) / 6, recall + common / sum(b.values()) / 6
    expected = 5 * precision * recall / (4 * precision + recall)
    assert MEASURES["characters"].figure(reply(target, answer), FORM) == pytest.approx(expected, rel=1e-6)
    assert MEASURES["words"].figure(reply("a b c d e", "a b c d e"), FORM) == pytest.approx(1.0)
    assert MEASURES["words"].figure(reply("a b c d", "d c b a"), FORM) < 0.5
    target, answer = "今日は北西の風、強い。Low Pell", "今日は南の風、強い。Low Pell"
    by_letters = BLEU(tokenize="zh", effective_order=True).sentence_score(answer, [target]).score / 100
    assert MEASURES["words"].figure(reply(target, answer), FORM) == pytest.approx(by_letters)
    assert MEASURES["words"].figure(reply("ลมแรงมาก", "ลมแรงมาก"), FORM) == pytest.approx(1.0)
    assert 0.3 < MEASURES["words"].figure(reply("ลมแรงมาก", "ลมแรงมา"), FORM) < 0.99
    common = sum(
        block.size for block in difflib.SequenceMatcher(None, "sea rough", "the sea is rough").get_matching_blocks()
    )
    found = MEASURES["similarity"].figure(reply("sea rough", "the sea is rough"), FORM)
    assert found == pytest.approx(1 - (16 - common) / 16)


def test_macro_f1_is_that_of_a_hand_made_table() -> None:
    """Calm: 2 right, 1 missed, 1 too many; rough: 1 right, 1 missed, 1 too many; a word of no label is only missed."""
    pairs = [
        ("calm", "calm"),
        ("calm", "Calm."),
        ("calm", "rough"),
        ("rough", "rough"),
        ("rough", "calm"),
        ("fog", "x"),
    ]
    replies = [Reply(target, answer) for target, answer in pairs]
    expected = (4 / 6 + 2 / 4 + 0.0) / 3
    of_rows, figure = macro_f1(replies, Form())
    assert figure(np.ones((1, 6)) @ of_rows)[0] == pytest.approx(expected)
    edge = card_of(["SW 5"] * 20).contender("adapter").measures
    assert (edge["f1"], edge["f1"].value) == (edge["label"], 1.0)
    without_fog = figure(np.array([[1, 1, 1, 1, 1, 0.0]]) @ of_rows)[0]
    assert without_fog == pytest.approx((4 / 6 + 2 / 4) / 2)
    only_calm = figure(np.array([[1, 0, 1, 0, 0, 0.0]]) @ of_rows)[0]
    assert only_calm == pytest.approx((2 / 3 + 0.0) / 2), "rough is said, and so counts"
    alone_of_rows, of_one = macro_f1([*replies[:2], Reply("calm", "x")], Form())
    assert of_one(np.ones((1, 3)) @ alone_of_rows)[0] == pytest.approx(4 / 5)


def test_json_and_columns_are_forms_too() -> None:
    """A schema decides what is well-formed; keys are fields, however they are ordered; a line's cells by name."""
    schema = {"type": "object", "required": ["force"], "properties": {"force": {"type": "integer"}}}
    form = Form(schema=schema)
    for force in ("5", "5.0", "0.5e1"):  # the same number in JSON, and an integer (draft 2020-12)
        one = Reply('{"force": 5, "sea": "rough"}', f'{{"sea": "calm", "force": {force}}}')
        assert field_matches(one, form) == {"force": True, "sea": False}
    no_json = ('{"force": 5, "sea": "\\ud83d"}', '{"force": 5, "sea": NaN}', '{"force": 5, "sea": -Infinity}')
    for broken in ('{"force": "5"}', "[5]", "force 5", '{"sea": "calm"}', *no_json):
        assert MEASURES["format"].figure(Reply(one.target, broken), form) == 0
    line = Form(columns=("way", "force"))
    assert field_matches(Reply('SW,"5"', "SW, 6"), line) == {"way": True, "force": False}
    for broken in ("SW,5,6", "SW,5\n", "SW,\n5", 'SW,"5', ""):
        assert MEASURES["format"].figure(Reply("SW,5", broken), line) == (broken == "SW,5\n")


@pytest.mark.parametrize(
    ("schema", "said"),
    [
        ({"type": "objekt"}, r"s.json, \$.type: schema: expected a JSON Schema .*, found 'objekt'"),
        ({"required": "force"}, r"s.json, \$.required: schema: expected a JSON Schema"),
        ({"properties": {"sea": {"pattern": "("}}}, r"s.json, \$.properties.sea.pattern: schema"),
        ({"$ref": "https://pellam.invalid/schema"}, r"references to its own parts, found 'https://pellam.invalid"),
        ({"$ref": "#"}, ""),
    ],
)
def test_a_schema_that_is_none_is_refused(schema: dict[str, Any], said: str) -> None:
    """Where it is read, or at the first reply it is held against; nothing is fetched, and no depth is too much."""
    if not said:
        assert parse('{"sea": "calm"}', Form(schema=schema)) is None
        assert parse(f'{{"sea": {"[" * 50000}{"]" * 50000}}}', Form(schema={})) is None
        return
    with pytest.raises(InputError, match=said):
        check_schema(schema, "s.json") or parse('{"sea": "calm"}', Form(schema=schema))  # type: ignore[func-returns-value]


def test_what_cannot_be_scored_is_refused_by_name(tmp_path: Path) -> None:
    """A target without the form, settings that say nothing, a function that is missing or gives no share."""
    with pytest.raises(InputError, match=r"\[score\]"):
        field_matches(reply("nothing", "N 2"), FORM)
    with pytest.raises(UsageError, match="pattern, schema or columns"):
        ScoreSettings(measures=("fields",))
    with pytest.raises(UsageError, match="did you mean 'exact'"):
        ScoreSettings(measures=("exct",))
    with pytest.raises(UsageError, match="one of the three"):
        ContenderSettings("x", shots=2, adapter="run-001")
    with pytest.raises(UsageError, match="a name of its own"):
        ScoreSettings(contender=(ContenderSettings("base", shots=1),))
    for said, changes in (
        ("prices.: all", {"prices": {"all": [1.0]}}),
        ("prices.: all", {"prices": {"all": [1.0, math.nan]}}),
        ("did you mean 'adapter'", {"prices": {"adaptor": [1.0, 2.0]}}),
        ("worth.: exact", {"worth": {"exact": "x"}}),
        ("did you mean 'exact'", {"worth": {"exat": 0.1}}),
        ("one of them, found 'pattern and columns'", {"pattern": "(?P<x>.)", "columns": ("a",)}),
    ):
        with pytest.raises(UsageError, match=said):
            ScoreSettings(**changes)  # type: ignore[arg-type]
    with pytest.raises(UsageError, match="nearest: expected false without shots"):
        ContenderSettings("x", adapter="run-001", nearest=True)
    with pytest.raises(UsageError, match="passes: expected false without criteria"):
        JudgeSettings(pairs=True, passes=True, base="tiny")
    with pytest.raises(UsageError, match="seed: expected 0 to 2147483647, found -1"):
        ScoreSettings(seed=-1)
    with pytest.raises(UsageError, match="give one of them"):
        JudgeSettings({"clear": "Is it clear?"})
    (tmp_path / "own.py").write_text("def short(target, answer, row):\n    return float(row['most'])\n")
    measure = own_measure("own.py:short", tmp_path)
    assert measure.figure(Reply("", "", row={"most": "0.25"}), Form()) == 0.25
    for value in ("2", "nan", "x"):
        with pytest.raises(InputError, match="a number from 0 to 1"):
            measure.figure(Reply("", "", row={"most": value}), Form())
    for named in ("own.py", "none.py:short", "own.py:shart"):
        with pytest.raises(UsageError, match=r"\[score\] own"):
            own_measure(named, tmp_path)


@pytest.mark.parametrize("n", [100, 400])
@pytest.mark.parametrize("rate", [0.2, 0.4, 0.6, 0.8])
def test_intervals_cover_as_often_as_they_say(n: int, rate: float) -> None:
    """Of all counts that n rows can show, weighed by how likely each is: 95% intervals cover 93 to 97%."""
    covered = 0.0
    for right in range(n + 1):
        chance = float(scipy.stats.binom.pmf(right, n, rate))
        if chance > 1e-9:
            interval = share_interval([1.0] * right + [0.0] * (n - right), _Rows(n))
            covered += chance * (interval.low <= rate <= interval.high)
    assert 0.93 <= covered <= 0.97


class _Rows(Resamples):
    """Single rows without resamples, which a share's interval has no need of."""

    def __init__(self, n: int) -> None:
        self.n_groups, self.group_of, self.seed = n, np.arange(n), 0


@pytest.mark.parametrize("n", [5, 8, 20, 100])
@pytest.mark.parametrize("copies", [1, 3])
def test_resampled_intervals_cover_too(n: int, copies: int) -> None:
    """400 simulated tables of figures that are no shares: 92 to 98% (three standard errors about 95).

    Plain percentiles would cover 88% of those of five rows, and 90% of those of eight.
    """
    rng = np.random.default_rng(0)
    resamples, covered = Resamples([str(index // copies) for index in range(n * copies)], 0), 0
    for _ in range(400):
        figures = np.repeat(rng.beta(2, 3, n), copies)
        interval = resamples.interval(resamples.each(functools.partial(mean, figures, np.ones(n * copies))))
        covered += interval.low <= 0.4 <= interval.high
    assert 0.92 <= covered / 400 <= 0.98


def test_planted_ties_are_seldom_called_and_a_planted_gain_is_found() -> None:
    """Of 300 seeds at most 6 in 100 ties called a difference; 12% won and 2% lost of 200 rows found in 90 of 100."""
    called, found, resamples = 0, 0, alone(200)
    for seed in range(300):
        rng = np.random.default_rng(seed)
        tie = rng.choice([1.0, -1.0, 0.0], size=200, p=[0.07, 0.07, 0.86])
        gain = rng.choice([1.0, -1.0, 0.0], size=200, p=[0.12, 0.02, 0.86])
        words = []
        for gains in (tie, gain):
            interval = resamples.interval(resamples.each(functools.partial(mean, gains, np.ones(200))))
            words.append(verdict(interval, paired_test(gains, resamples, share=True), True))
        called += words[0] != "cannot tell"
        found += words[1] == "better"
    assert called <= 18
    assert found >= 270


def test_tests_agree_with_closed_forms() -> None:
    """McNemar's exact test by its sum; turned signs by going through all; Holm by hand; power by table."""
    gains = np.array([1.0] * 8 + [-1.0] * 1 + [0.0] * 11)
    expected = 2 * sum(math.comb(9, k) for k in (0, 1)) / 2**9
    assert paired_test(gains, alone(20), share=True) == pytest.approx(expected)
    few = np.array([0.5, 0.2, 0.9, -0.1, 0.3, 0.4])
    signs = [[1 if bits >> i & 1 else -1 for i in range(6)] for bits in range(64)]
    extreme = sum(abs(np.dot(one, few)) >= abs(few.sum()) - 1e-12 for one in signs) / 64
    assert paired_test(few, alone(6), share=False) == pytest.approx(extreme)
    close = np.random.default_rng(2).normal(0.3, 1, 12)
    extreme = sum(abs(np.dot(one, close)) >= abs(close.sum()) - 1e-12 for one in itertools.product((1, -1), repeat=12))
    assert paired_test(close, alone(12), share=False) == pytest.approx(extreme / 2**12)
    assert paired_test(np.zeros(6), alone(6), share=False) == 1.0
    assert holm([0.01, 0.04, 0.03]) == pytest.approx([0.03, 0.06, 0.06])
    # A spread of 1 and a difference of a half: 32 pairs have 80% power (Cohen 1988, by the normal distribution 31.4).
    assert rows_needed(1.0, 0.5) in (31, 32)


def test_many_rows_are_tested_in_little_memory() -> None:
    """Of 5,000 rows: 400 MB if all 9,999 turns were held at once, 80 MB if all resamples were; p as by theory."""
    gains = np.random.default_rng(3).normal(0.01, 1, 5000)
    tracemalloc.start()
    resamples = alone(5000)
    resamples.interval(resamples.each(functools.partial(mean, gains, np.ones(5000))))
    found = paired_test(gains, resamples, share=False)
    _, peak = tracemalloc.get_traced_memory()
    tracemalloc.stop()
    assert peak < 40e6
    expected = 2 * scipy.stats.norm.sf(abs(gains.sum()) / np.sqrt((gains**2).sum()))
    assert 0.05 < expected < 0.95
    assert found == pytest.approx(expected, abs=0.04)  # 9,999 turns: 0.01 off as a rule


def f1_by_counting(pairs: Sequence[tuple[str, str]]) -> float:
    """Return F1 averaged over the labels among targets, in plain Python."""
    found = []
    for label in dict.fromkeys(target for target, _ in pairs):
        right = sum(target == answer == label for target, answer in pairs)
        said = sum((target == label) + (answer == label) for target, answer in pairs)
        found.append(2 * right / said)
    return sum(found) / len(found)


def f1_difference(targets: Sequence[str], before: Sequence[str], after: Sequence[str], groups: int) -> Difference:
    """Return how F1 differs, of rows in so many groups."""
    given = [Given(str(n), [*map(reply, targets, answers)], 9) for n, answers in enumerate((before, after))]
    rows = [(n, {}) for n in range(len(targets))]
    asked = Asked(rows, [f"prompt {n}" for n, _ in rows], [str(n % groups) for n, _ in rows])
    card = make_scorecard(given, asked, ScoreSettings(), {}, [MEASURES["label"], MEASURES["f1"]])
    assert card.contenders[1].differences["label"].word == "cannot tell"
    return card.contenders[1].differences["f1"]


def test_f1_is_told_apart_by_itself_not_by_the_share_of_right_labels() -> None:
    """A rare label that is found, at a false alarm for each, changes no share of right labels, but F1."""
    targets, common = ["fair"] * 100 + ["fog"] * 20, ["fair"] * 120
    finding = ["fair"] * 88 + ["fog"] * 24 + ["fair"] * 8
    gain = f1_by_counting([*zip(targets, finding, strict=True)]) - f1_by_counting([*zip(targets, common, strict=True)])
    for found, word, value in (
        (f1_difference(targets, common, finding, 120), "better", gain),
        (f1_difference(targets, finding, common, 120), "worse", -gain),
    ):
        assert (found.word, found.interval.value) == (word, pytest.approx(value, abs=1e-12))
    same = f1_difference(targets, common, common, 120)
    assert (same.word, same.interval.value, same.p) == ("cannot tell", 0.0, 1.0)


def test_the_test_of_f1_agrees_with_going_through_all_ways_in_which_answers_change_hands() -> None:
    """Six groups of three rows, of which each has both contenders' answers or both changed; Holm over two measures."""
    targets = ["fair"] * 12 + ["fog"] * 6
    sides = [
        ["fair"] * 11 + ["fog"] + ["fair"] * 4 + ["fog"] * 2,
        ["fog"] * 3 + ["fair"] * 9 + ["fog"] * 5 + ["fair"],
    ]
    changes = []
    for bits in range(64):
        side = [bits >> (n % 6) & 1 for n in range(18)]
        own, other = ([(targets[n], sides[s ^ k][n]) for n, s in enumerate(side)] for k in (1, 0))
        changes.append(f1_by_counting(own) - f1_by_counting(other))
    expected = sum(abs(change) >= abs(changes[0]) - 1e-12 for change in changes) / 64
    assert 0 < expected < 0.5
    assert f1_difference(targets, *sides, 6).p == pytest.approx(2 * expected)


def test_halves_beside_wholes_are_tested_by_how_large_they_are() -> None:
    """Of six rows five gain a half and one loses all: by signs alone p were 0.219; of all 64 turns, 34 reach as far."""
    base = [reply("SW 5", "NE 4")] * 5 + [reply("SW 5", "SW 5")]
    own = [reply("SW 5", "SW 4")] * 5 + [reply("SW 5", "NE 4")]
    asked = Asked([(n, {}) for n in range(6)], [*"abcdef"], [*"abcdef"], form=FORM)
    given = [Given("base", base, 9), Given("adapter", own, 9)]
    card = make_scorecard(given, asked, ScoreSettings(), {}, [MEASURES["fields"]])
    gains = [0.5] * 5 + [-1.0]
    turned = [sum(gain * (1 if bits >> n & 1 else -1) for n, gain in enumerate(gains)) for bits in range(64)]
    expected = sum(abs(one) >= abs(sum(gains)) for one in turned) / 64
    assert card.contenders[1].differences["fields"].p == pytest.approx(expected)
    assert expected == 34 / 64


@pytest.mark.parametrize("copies", [1, 10])
def test_as_many_rows_are_said_to_be_needed_as_there_are_groups_of_rows_that_agree(copies: int) -> None:
    """Half of 400 differences are 0.5, half 0: their spread is 0.25; of ten rows that agree each counts a tenth."""
    targets = ["SW 5"] * 400 * copies
    answers = [answer for answer in ["SW 5", "NE 5"] * 200 for _ in range(copies)]
    groups = [str(n) for n in range(400) for _ in range(copies)]
    found = card_of(answers, groups=groups, targets=targets, worth={"fields": 0.05}).contender("adapter").differences
    expected = (0.25 / 0.05) ** 2 * (1.959964 + 0.841621) ** 2 * copies
    assert found["fields"].rows_needed == pytest.approx(expected, rel=0.1)  # resampled 2,000 times: 3% for one in two


def test_rows_of_one_group_are_resampled_together() -> None:
    """Fifty copies of four rows are four observations: a wider interval, and a test of four."""
    figures = [0.0, 1.0, 1.0, 0.0] * 50
    together = Resamples([str(i % 4) for i in range(200)], 0)
    apart, wide = share_interval(figures, alone(200)), share_interval(figures, together)
    assert apart.value == wide.value == 0.5
    assert wide.high - wide.low > 3 * (apart.high - apart.low)
    uneven = share_interval([1.0] * 4 + [0.0] * 6, Resamples([*"aaaabbcccd"], 0))
    # Of all 256 draws of four groups 1 has the first alone: 33 times what lies outside an interval of four.
    assert (uneven.value, uneven.low, uneven.high) == (0.4, 0.0, 1.0)
    assert paired_test(np.ones(200), together, share=True) == pytest.approx(2 / 2**4)
    with pytest.raises(ValueError, match="no row"):
        Resamples([], 0)


def test_at_the_edges_the_exact_interval_stands() -> None:
    """Clopper and Pearson's closed form: 1 - 0.025^(1/n); n of 20 gives 0.168 (a published table)."""
    none, every = share_interval([0.0] * 20, alone(20)), share_interval([1.0] * 20, alone(20))
    assert (none.low, none.high) == (0.0, pytest.approx(0.168, abs=5e-4))
    assert (every.low, every.high) == (pytest.approx(0.832, abs=5e-4), 1.0)
    assert no_difference(alone(20)) == Interval(0.0, pytest.approx(-none.high), pytest.approx(none.high))


def test_a_verdict_needs_an_interval_without_zero_and_the_test() -> None:
    """In the measure's own direction."""
    up, flat = Interval(0.2, 0.1, 0.3), Interval(0.1, -0.1, 0.3)
    words = [verdict(up, 0.01, True), verdict(up, 0.01, False), verdict(flat, 0.01, True), verdict(up, 0.2, True)]
    assert words == ["better", "worse", "cannot tell", "cannot tell"]


def card_of(
    answers: Sequence[str],
    asked: dict[str, Any] | None = None,
    groups: Sequence[str] = (),
    targets: Sequence[str] = (),
    cut: int = 0,
    worse: Sequence[int] = (),
    **changes: Any,
) -> Scorecard:
    """Return the card of a base without an idea and an adapter with these answers, so many of which are cut.

    `worse` are how many tokens the rejected replies have, where chosen ones have four.
    """
    settings = ScoreSettings(measures=tuple(MEASURES), pattern=FORM.pattern, by="kind", **changes)
    rows = [(index + 3, {"kind": "old" if index % 2 else "new"}) for index in range(len(answers))]
    targets = targets or ["SW 5"] * len(answers)
    rejected = [[0.75] * n for n in worse or [4] * len(answers)]
    base = [reply(target, "no | idea\n", 8.0, rejected=one) for target, one in zip(targets, rejected, strict=True)]
    each = enumerate(zip(targets, answers, rejected, strict=True))
    own = [reply(target, answer, 1.0, ended=place >= cut, rejected=one) for place, (target, answer, one) in each]
    general = {"g.txt": ([10.0, 12.0] * 10, [10, 10] * 10)}, {"g.txt": ([15.0, 18.5] * 10, [10, 10] * 10)}
    given = [Given("base", base, 10, general[0]), Given("adapter", own, 10, general[1])]
    given[1] = Given("adapter", own, 10, general[1], {"case": [reply("SW 5", "SW 4")] * len(own)})
    better = {name: measure.higher_is_better for name, measure in MEASURES.items()}
    signed = {"by": "kind", "seed": settings.seed, "adapter": "x", "higher_is_better": better}
    signed["settings"] = dataclasses.asdict(settings)
    groups = groups or [str(n) for n, _ in rows]
    asked = {"prompts": [f"prompt {number}" for number, _ in rows], **(asked or {})}
    known = Asked(rows, groups=groups, form=FORM, **asked)
    return make_scorecard(given, known, settings, signed, list(MEASURES.values()))


def test_answers_are_measured_from_behind_their_thoughts() -> None:
    """Each as if it had none, but for what the base says without any; rows keep the whole of them."""
    said, thoughts = ["SW 4", *["SW 5"] * 39], [f"row {n}, or 7? </think>" for n in range(40)]
    plain = card_of(said)
    card = card_of(
        [f"{thought}</think>\n{text}" for thought, text in zip(thoughts, said, strict=True)],
        targets=[f"{thought} SW 5" for thought in thoughts],
        after="</think>",
    )
    columns = ["contender", "measure", "value", "low", "high", "difference", "p", "word"]
    of_answers = [
        one.table()[columns][~one.table()["measure"].isin(("loss", "bits", "perplexity", "tokens", "ranked"))]
        for one in (plain, card)
    ]
    pd.testing.assert_frame_equal(*of_answers)
    assert (card.contender("adapter").fields, card.confused) == (plain.contender("adapter").fields, plain.confused)
    assert confusion_rows(card) == confusion_rows(plain)
    assert card.rows[0]["contenders"]["adapter"]["answer"] == "row 0, or 7? </think></think>\nSW 4"


@pytest.mark.parametrize(("n_cut", "says"), [(0, False), (1, False), (2, True), (40, True)])
def test_answers_that_were_cut_in_their_thoughts_are_told(n_cut: int, says: bool) -> None:
    """From 5% on, of whatever contender; thoughts that end, and tags of another kind, are no matter."""
    answers = ["<think>row 7, or"] * n_cut + ["<think>row 7</think> SW 5", *["<b>SW 5"] * 39][: 40 - n_cut]
    said = [line for line in all_lines(card_of(answers)) if "cut in their thoughts" in line]
    assert len(said) == says
    assert not says or said[0].startswith(
        f"{n_cut} of adapter's 40 answers were cut in their thoughts: give [score] more"
    )


def with_one(score: ContenderScore, name: str) -> ContenderScore:
    return dataclasses.replace(score, differences={name: score.differences[name]})


def test_the_scorecard_holds_figures_groups_fields_and_rows() -> None:
    """Forty rows, one of the new kind wrong."""
    card = card_of(["SW 4", *["SW 5"] * 39])
    adapter = card.contender("adapter")
    assert adapter.measures["exact"].value == pytest.approx(39 / 40)
    assert adapter.measures["loss"].value == pytest.approx(0.25)
    assert adapter.fields == {"way": 1.0, "force": 39 / 40}
    assert adapter.by["new"]["exact"] == pytest.approx(19 / 20)
    assert card.by_counts == {"new": 20, "old": 20}
    assert {adapter.differences[name].word for name in ("loss", "exact", "fields", "bits", "similarity")} == {"better"}
    assert adapter.differences["ended"].word == "cannot tell"
    some = card_of(["SW 5"] * 3 + ["SW 4"] * 37, worth={"exact": 0.02}).contender("adapter").differences
    assert (some["exact"].worth, some["exact"].rows_needed > 40) == (0.02, True)
    assert (some["loss"].worth, some["loss"].rows_needed) == (0.0, 0)
    (told,) = verdict_lines(dataclasses.replace(card, contenders=(card.contenders[0], with_one(adapter, "ended"))))
    assert told == "adapter and base: these rows cannot tell: ended +0.000."
    for high, needed, said in (
        (0.2, 70, " (about 70 rows would tell 0.05)"),
        (0.2, 40, ""),
        (0.04, 70, " (less than 0.05 apart)"),
    ):
        one = Difference(Interval(0.01, -0.02, high), "cannot tell", 0.4, 0.05, needed)
        score = dataclasses.replace(adapter, differences={"ended": one})
        (told,) = verdict_lines(dataclasses.replace(card, contenders=(card.contenders[0], score)))
        assert told == f"adapter and base: these rows cannot tell: ended +0.010{said}."
    header, lines = figure_rows(
        dataclasses.replace(card, contenders=(dataclasses.replace(adapter, prompt_tokens=0), adapter))
    )
    assert [line[header.index("prompt tokens")] for line in lines] == ["–", "10"]
    assert lines[0][header.index("fields ↑")].startswith("0.988 (0.9")
    assert card.contender("base").differences == {}
    assert set(card.confused) == {("sw 5", "sw 4", 1), ("force: 5", "force: 4", 1)}
    assert confusion_rows(card) == (["", "sw 5", "another"], [["sw 5", "39", "1"]])
    assert card.rows[0]["contenders"]["adapter"]["exact"] == 0
    assert "rows" not in card.as_mapping()
    assert json.loads(json.dumps(card.as_mapping())) == json.loads(
        json.dumps(card_of(["SW 4", *["SW 5"] * 39]).as_mapping())
    )
    table = card.table().set_index(["contender", "measure"])
    assert table.loc[("adapter", "exact"), "word"] == "better"
    assert card.row_table().query("contender == 'adapter'").exact.tolist() == [0.0] + [1.0] * 39


def test_the_card_says_what_lessens_it() -> None:
    """Leaks, copies of train, forgetting, prompts reworded, near and far, few rows, rows of train to look at."""
    asked = {
        "near": [0.9] * 10 + [0.1] * 10,
        "train_replies": Counter({"SW 4": 1, "NE 2": 9}),
        "leaks": ["row 3 has the texts of row 1 in train"],
        "suspects": [{"row": 7, "loss": 2.5, "reply": "SW 9"}],
    }
    card = card_of(["SW 4"] * 10 + ["SW 5"] * 10, asked)
    said = "\n".join(all_lines(card))
    assert "1 of 20 test rows stand in train too: row 3 has the texts" in said
    assert "50.0% of adapter's answers are a reply of train to the letter, and 0.0% of the targets." in said
    labels = card_of(["SW 4"] * 10 + ["SW 5"] * 10, asked | {"train_replies": Counter({"SW 4": 1, "SW 5": 1})})
    assert "a reply of train" not in "\n".join(all_lines(labels))
    assert "adapter forgot general text: loss a token +0.575" in said
    assert "With prompts reworded by case, adapter's exact falls: 0.500, then 0.000" in said
    assert "Under 20 rows, which says little: kind new, old." in said
    assert "one and the same" not in said + "\n".join(all_lines(labels))
    assert "did not end" not in said
    odd = [f"SW {n % 5}" for n in range(20)]
    same = card_of([" . . "] * 11 + ["SW 5"] * 9, targets=odd, cut=2)
    assert "11 of adapter's 20 answers are one and the same, '. .'; the commonest target stands 4 times." in all_lines(
        same
    )
    assert any(line.startswith("10.0% of adapter's answers did not end by themselves:") for line in all_lines(same))
    # Texts have no prompt that could tell answers apart.
    texts = card_of([" . . "] * 20, {"prompts": [""] * 20}, targets=odd)
    assert "one and the same" not in "\n".join(all_lines(texts))
    for answers, targets in (([". ."] * 8 + odd[:12], odd), ([". ."] * 20, ["SW 5"] * 11 + odd[:9]), ([""] * 20, odd)):
        assert "one and the same" not in "\n".join(all_lines(card_of(answers, targets=targets)))
    adapter = card.contender("adapter")
    assert (adapter.far["near"]["exact"], adapter.far["far"]["exact"]) == (0.0, 1.0)
    for near, counts in (([1.0] * 19 + [0.4], (19, 1)), ([0.0] * 19 + [0.4], (1, 19)), ([1.0] * 20, ())):
        alike = card_of(["SW 4"] * 10 + ["SW 5"] * 10, asked | {"near": near})
        assert tuple(alike.far_counts.values()) == counts
    assert "Rows of train that stay hard: look at them with foldkit review" in tables(card)
    assert failures(card, 2)["worst"] == [0, 1]
    assert failures(card, 30)["wins"] == list(reversed(range(10, 20)))
    assert failures(card)["losses"] == []
    card.rows[1]["contenders"]["base"]["exact"] = 1.0
    assert failures(card)["losses"] == [1]
    assert "reworded by case, adapter's fields stays: 0.500, then 0.500." in "\n".join(
        all_lines(card_of(["SW 4"] * 20))
    )


def test_an_adapter_is_held_against_one_and_the_same_answer() -> None:
    """Of 40 rows 28 are `N 0`: by always saying so an adapter beats the base, and learned no more than a word."""
    targets, train = ["N 0"] * 28 + ["SW 4"] * 12, Counter({"N 0": 87, "SW 4": 13})
    same = card_of(["N 0"] * 40, {"train_replies": train}, targets=targets)
    assert same.contender("adapter").differences["exact"].word == "better"
    floor = same.floors[0]
    assert (floor.text, floor.share, floor.measures["exact"].value) == ("N 0", 0.87, 28 / 40)
    assert {one.word for one in floor.differences.values()} == {"cannot tell"}
    said = "\n".join(all_lines(same))
    assert (
        "Always answering 'N 0', train's commonest reply (87.0% of all), reaches exact 0.700, normalised 0.700" in said
    )
    assert "adapter and that: these rows cannot tell: exact +0.000" in said
    header, lines = figure_rows(same)
    assert [line[0] for line in lines] == ["base", "adapter", "always 'N 0'"]
    assert {len(line) for line in lines} == {len(header)}
    assert (lines[2][header.index("exact ↑")], lines[2][header.index("loss ↓")]) == (
        lines[1][header.index("exact ↑")],
        "–",
    )
    assert [line.get_xdata()[0] for line in draw_scorecard(same).axes[list(MEASURES).index("exact")].lines[1::2]] == [
        0.0,
        0.7,
        0.7,
    ]
    right = card_of(targets, {"train_replies": train}, targets=targets)
    assert any("; adapter is better than that: exact +0.300" in line for line in all_lines(right))
    for n, says in ((25, True), (15, False)):
        some = Counter({"N 0": n, **{f"SW {own}": 1 for own in range(100 - n)}})
        assert ("Always" in "\n".join(all_lines(card_of(targets, {"train_replies": some}, targets=targets)))) is says
    rare = Counter({"N 0": 2, **{f"SW {n}": 1 for n in range(48)}})
    for answers, says in ((targets, False), (["N 0"] * 40, True)):
        card = card_of(answers, {"train_replies": rare}, targets=targets)
        assert ("Always answering" in "\n".join(all_lines(card))) is says
        assert len(figure_rows(card)[1]) == 2 + says
    odd = [f"SW {n}" for n in range(40)]
    assert "Always" not in "\n".join(all_lines(card_of(odd, {"train_replies": rare}, targets=odd)))
    assert "Always" in "\n".join(all_lines(card_of([". ."] * 40, {"train_replies": rare}, targets=odd)))
    assert [floor.kind for floor in card_of(odd, targets=odd).floors] == ["length"]


def test_an_adapter_is_held_against_what_stands_in_the_prompt() -> None:
    """Where replies are mended texts, the text as it came has most of it: the column that is most like the targets."""
    targets = [f"NNNNNNNE {n}" for n in range(40)]
    sent = [target.replace("NE", "EN") if n < 30 else target for n, target in enumerate(targets)]
    columns = {"station": ["Low Ness"] * 40, "sent": sent, "blank": [""] * 40}
    for answers, says in (
        (sent, "adapter and that: these rows cannot tell: exact +0.000"),
        (targets, "adapter is better than that: exact +0.750"),
        (["NE 41"] * 40, "adapter is worse than that: exact -0.250"),
    ):
        card = card_of(answers, {"columns": columns}, targets=targets)
        floor = card.floors[0]
        assert (floor.text, floor.measures["exact"].value) == ("sent", 0.25)
        said = all_lines(card)
        (line,) = (line for line in said if line.startswith("Answering what"))
        assert line.startswith("Answering what stands in 'sent', as it is, reaches exact 0.250")
        assert f"; {says}" in line
    unlike = card_of(targets, {"columns": {"station": ["Low Ness"] * 40}}, targets=targets)
    assert "Answering what" not in "\n".join(all_lines(unlike))


@pytest.mark.parametrize(
    ("lengths", "says"), [((6, 2), "shorter"), ((2, 6), "longer"), ((6, 4), "shorter"), ((4, 4), "")]
)
def test_an_adapter_is_held_against_the_lengths_of_pairs(lengths: tuple[int, int], says: str) -> None:
    """Of 40 pairs the chosen reply, of four tokens, is the shorter or the longer in 30; of one length it is neither."""
    card = card_of(["SW 5"] * 40, worse=[lengths[0]] * 30 + [lengths[1]] * 10)
    floor = card.floors[-1]
    assert floor.measures["ranked"].value == (0.75 if says else 0.0)
    said = [line for line in all_lines(card) if line.startswith("Taking")]
    told = f"Taking the {says} reply of each pair for the better one reaches ranked 0.750; adapter is better than that"
    assert said == ([f"{told}: ranked +0.250."] if says else [])


@pytest.mark.parametrize(("n_unseen", "says"), [(0, False), (3, True), (20, False)])
def test_labels_that_no_row_of_train_has_are_told(n_unseen: int, says: bool) -> None:
    """Three of twenty; of twenty none are labels but texts."""
    targets = ["SW 5"] * (20 - n_unseen) + [f"NE {n}" for n in range(n_unseen)]
    card = card_of(targets, {"train_replies": Counter({"SW 5": 9, "SW 4": 9})}, targets=targets)
    said = [line for line in all_lines(card) if "have a label that" in line]
    assert said == (["3 of 20 test rows have a label that no row of train has."] if says else [])


def test_rows_too_few_for_any_difference_are_told() -> None:
    """Where every row is better, one is told from as many rows as the card says are needed, and from no fewer."""
    told = {}
    for n_rows in range(2, 14):
        card = card_of(["SW 5"] * n_rows)
        told[n_rows] = any(one.word == "better" for one in card.contender("adapter").differences.values())
        lines = [line for line in all_lines(card) if line.startswith("No difference can be told")]
        assert bool(lines) is not told[n_rows]
    needed = min(n_rows for n_rows, found in told.items() if found)
    few = all_lines(card_of(["SW 5"] * 4))
    n_measures = len(card.contender("adapter").differences)
    narrow = "; resampled intervals of fewer than 5 are too narrow"
    assert f"No difference can be told of 4 rows by {n_measures} measures: {needed} or more could do it{narrow}." in few
    assert any("of 4 groups of rows" in line for line in all_lines(card_of(["SW 5"] * 8, groups=[*"abcd"] * 2)))


def test_a_part_of_the_rows_has_the_figures_of_a_card_of_its_own() -> None:
    """By every measure, of a group, of the rows far from train, and of one row, also where a whole is no mean."""
    answers = [*["SW 5"] * 8, *["NE 4"] * 7, *["odd"] * 5] * 2
    targets = [*["SW 5"] * 11, *["NE 4"] * 9] * 2
    near = [0.9 if n % 2 else 0.1 for n in range(40)]
    card = card_of(answers, {"near": near}, targets=targets)
    own, half = card.contender("adapter"), card_of(answers[::2], targets=targets[::2]).contender("adapter").measures
    assert set(half) == set(MEASURES)
    for name, figure in half.items():
        assert own.by["new"][name] == pytest.approx(figure.value, rel=1e-12), name
        assert own.far["far"][name] == pytest.approx(figure.value, rel=1e-12), name
    assert 0 < own.by["new"]["f1"] != own.by["new"]["label"]
    assert own.reworded["case"]["perplexity"] == pytest.approx(math.exp(own.reworded["case"]["loss"]))
    for row in card.rows:
        said = row["contenders"]["adapter"]
        assert said["perplexity"] == pytest.approx(math.exp(said["loss"]))


def test_the_page_and_the_picture_show_what_the_card_holds() -> None:
    """Figures, verdict, groups, fields, answers side by side with their bars and line ends made harmless."""
    card = card_of(["SW 4", *["SW 5"] * 19])
    page = scorecard_markdown(card, most=2)
    assert "# Scorecard on 20 test rows" in page
    assert "| base | no \\| idea<br> |" in page
    assert "18 more rows" in page
    assert "| adapter | 1.000 | 0.950 |" in page
    assert "## Worst rows: 3, " in page
    assert verdict_lines(card)[0].startswith("adapter is better than base: loss -1.750")
    panels = [panel for panel in draw_scorecard(card).axes if panel.get_visible()]
    assert len(panels) == len(MEASURES)
    assert panels[0].get_title(loc="left") == "loss, less is better"
    for panel, name in zip(panels, MEASURES, strict=True):
        figures = [score.measures[name] for score in card.contenders]
        drawn = [part for one in figures for part in ([one.low, one.high], [one.value])]
        assert [list(line.get_xdata()) for line in panel.lines] == drawn
        assert [text.get_text() for text in panel.texts] == [f"{one.value:.3f}" for one in figures]
    dear = dataclasses.replace(card, contenders=(dataclasses.replace(card.contenders[0], name="$x_{$"),))
    draw_scorecard(dear).savefig(io.BytesIO())
    with pytest.raises(ValueError, match="1 replies to 0 rows"):
        make_scorecard([Given("base", [reply("a", "b")], 1)], Asked([], [], []), ScoreSettings(), {}, [])


def test_before_a_training_it_is_said_whether_asking_does_the_job_and_what_a_request_costs() -> None:
    """Base 0 of 100 right, shots 99 of 100 at five times the tokens; prices for a million tokens of each kind."""
    rows = [(index, {}) for index in range(100)]
    base = [reply("a", "b", n_tokens=20) for _ in rows]
    shots = [reply("a", "a", n_tokens=10)] * 99 + [reply("a", "b", n_tokens=10)]
    asked = Asked(rows, [""] * 100, [str(index) for index, _ in rows])
    prices = {"all": (1.0, 4.0), "base": (2.0, 0.0)}
    settings = ScoreSettings(measures=("exact",), prices=prices)
    given = [Given("base", base, 100), Given("with shots", shots, 500)]
    card = make_scorecard(given, asked, settings, {"adapter": ""}, [MEASURES["exact"]])
    first, second = asking_lines(card, 0.9)
    assert first.startswith("Asking better already does the job: with shots reaches exact 0.990 (")
    assert second == "An adapter that does as well saves 400 of 500 prompt tokens a question (80%)."
    assert asking_lines(card, 0.999)[0].startswith("Asking better does not do the job")
    costs = [score.cost for score in card.contenders]
    assert costs == pytest.approx([1000 * 200 / 1e6, 1000 * (500 + 40) / 1e6])


def test_prompts_are_reworded_by_a_seed() -> None:
    """Only the slots named; the same seed gives the same; marks within numbers stay; each kind does its own."""
    rows = [{"note": "Wind WEST, force 5.5; nothing else. Glass falling slowly tonight", "reply": "W, 5."}] * 9
    (plain,) = {row["note"] for row in reworded(rows, {"note"}, ["case", "marks"], 0)}
    assert plain == "wind west force 5.5 nothing else glass falling slowly tonight"
    first, again, other = (reworded(rows, {"note"}, ["spelling"], seed) for seed in (0, 0, 1))
    assert first == again != other
    assert {row["reply"] for row in first} == {"W, 5."}
    assert any(row["note"] != rows[0]["note"] for row in first)
    assert all(sorted(row["note"]) == sorted(rows[0]["note"]) for row in first)
