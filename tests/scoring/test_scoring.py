"""Measures against hand-made tables, intervals by simulation and closed form, the scorecard."""

from __future__ import annotations

import difflib
import math
from collections.abc import Sequence
from typing import Any

import numpy as np
import pytest

from foldkit.formats import InputError, UsageError
from foldkit.scoring import (
    MEASURES,
    Interval,
    Scorecard,
    ScoreSettings,
    make_scorecard,
    mean_interval,
    paired_interval,
)
from foldkit.scoring.markdown import scorecard_markdown, verdict_lines
from foldkit.scoring.measures import Reply, field_matches
from foldkit.scoring.scorecard import Given, verdict

PATTERN = r"(?P<way>[NESW]+) (?P<force>\d+)"


def reply(target: str, answer: str, loss: float = 2.0, n: int = 4) -> Reply:
    return Reply(target, answer, loss, n, 6.0, 8)


@pytest.mark.parametrize(
    ("target", "answer", "expected"),
    [
        ("SW 5", "SW 5", {"exact": 1, "fields": 1, "format": 1, "similarity": 1}),
        ("SW 5", " SW 5\n", {"exact": 1, "fields": 1, "format": 1, "similarity": 1}),
        ("SW 5", "SW 6", {"exact": 0, "fields": 0.5, "format": 1, "similarity": 0.75}),
        ("SW 5", "N 7", {"exact": 0, "fields": 0, "format": 1, "similarity": 0.25}),
        ("SW 5", "wind SW 5", {"exact": 0, "fields": 0, "format": 0, "similarity": 4 / 9}),
        ("SW 5", "", {"exact": 0, "fields": 0, "format": 0, "similarity": 0}),
    ],
)
def test_measures_give_the_figures_made_by_hand(target: str, answer: str, expected: dict[str, float]) -> None:
    """Edit distances counted by hand."""
    one = reply(target, answer)
    found = {name: MEASURES[name].figure(one, PATTERN) for name in expected}
    assert found == pytest.approx(expected)
    assert MEASURES["loss"].figure(one, "") == 0.5


@pytest.mark.parametrize("name", MEASURES)
def test_every_measure_keeps_its_range_and_direction(name: str) -> None:
    """The right answer is at the good end, any answer within the range, and the name is its own."""
    measure = MEASURES[name]
    texts = ["SW 5", "N 12", "", "x" * 50, "é\n|"]
    figures = [measure.figure(reply("SW 5", answer, loss=3.0), PATTERN) for answer in texts]
    assert all(measure.low <= figure <= measure.high for figure in figures)
    assert measure.name == name
    if name == "ranked":  # of the losses of both replies, a token, whatever the answer
        assert [measure.figure(reply("", "", loss), "") for loss in (2.9, 3.1)] == [1, 0]
        with pytest.raises(ValueError, match="without a rejected"):
            measure.figure(Reply("", "", 1.0, 1), "")
    elif name != "loss":
        assert figures[0] == measure.high == max(figures) > min(figures)
    else:
        assert not measure.higher_is_better
    assert math.isfinite(measure.weight(reply("a", "b")))


def test_similarity_agrees_with_another_librarys_blocks_on_pure_insertions() -> None:
    """Where the answer only adds letters, edits are the added ones: Python's difflib finds the same common part."""
    target, answer = "sea rough", "the sea is rough"
    common = sum(block.size for block in difflib.SequenceMatcher(None, target, answer).get_matching_blocks())
    expected = 1 - (len(answer) - common) / len(answer)
    assert MEASURES["similarity"].figure(reply(target, answer), "") == pytest.approx(expected)


def test_a_target_that_the_pattern_does_not_match_is_refused() -> None:
    """For then no figure by field would mean anything."""
    assert field_matches(reply("N 1", "N 2"), PATTERN) == {"way": True, "force": False}
    with pytest.raises(InputError, match=r"\[score\] pattern"):
        field_matches(reply("nothing", "N 2"), PATTERN)
    with pytest.raises(UsageError, match="pattern"):
        ScoreSettings(measures=("fields",))
    with pytest.raises(UsageError, match="did you mean 'exact'"):
        ScoreSettings(measures=("exct",))


def test_intervals_cover_as_often_as_they_say() -> None:
    """200 simulated tables of 100 rows, true rate 0.4: 95% intervals cover 90 to 99% (four standard errors)."""
    rng = np.random.default_rng(0)
    covered = 0
    for trial in range(200):
        figures = (rng.random(100) < 0.4).astype(float).tolist()
        interval = mean_interval(figures, [1.0] * 100, [str(i) for i in range(100)], trial, is_share=True)
        covered += interval.low <= 0.4 <= interval.high
    assert 180 <= covered <= 198


def test_rows_of_one_group_are_resampled_together() -> None:
    """Fifty copies of four rows are four observations: a wider interval than two hundred of their own."""
    figures = [0.0, 1.0, 1.0, 0.0] * 50
    apart = mean_interval(figures, [1.0] * 200, [str(i) for i in range(200)], 0)
    together = mean_interval(figures, [1.0] * 200, [str(i % 4) for i in range(200)], 0)
    assert apart.value == together.value == 0.5
    assert together.high - together.low > 3 * (apart.high - apart.low)


def test_at_the_edges_the_exact_interval_stands() -> None:
    """Clopper and Pearson's closed form: 1 - 0.025^(1/n); n of 20 gives 0.168 (a published table)."""
    groups = [str(i) for i in range(20)]
    none = mean_interval([0.0] * 20, [1.0] * 20, groups, 0, is_share=True)
    every = mean_interval([1.0] * 20, [1.0] * 20, groups, 0, is_share=True)
    assert (none.low, none.high) == (0.0, pytest.approx(0.168, abs=5e-4))
    assert (every.low, every.high) == (pytest.approx(0.832, abs=5e-4), 1.0)
    with pytest.raises(ValueError, match="need as many of each"):
        mean_interval([1.0], [1.0, 1.0], ["a"], 0)


def test_weighted_means_and_paired_differences_are_ratios_of_sums() -> None:
    """Loss per token: sums over sums, not a mean of means; a difference of equal figures is nothing."""
    groups = ["a", "b", "c"]
    mean = mean_interval([1.0, 2.0, 4.0], [10.0, 1.0, 1.0], groups, 0)
    assert mean.value == pytest.approx(16 / 12)
    gain = paired_interval([1.0, 2.0, 4.0], [2.0, 2.0, 5.0], [10.0, 1.0, 1.0], groups, 0)
    assert gain.value == pytest.approx(11 / 12)
    assert paired_interval([1.0, 2.0], [1.0, 2.0], [1.0, 1.0], ["a", "b"], 0) == Interval(0.0, 0.0, 0.0)


def test_a_verdict_needs_an_interval_without_zero() -> None:
    """In the measure's own direction."""
    up, flat = Interval(0.2, 0.1, 0.3), Interval(0.1, -0.1, 0.3)
    assert [verdict(up, True), verdict(up, False), verdict(flat, True)] == ["better", "worse", "cannot tell"]


def card_of(answers: Sequence[str], **changes: Any) -> Scorecard:
    settings = ScoreSettings(measures=tuple(MEASURES), pattern=PATTERN, by="kind", **changes)
    rows = [(index + 3, {"kind": "old" if index % 2 else "new"}) for index in range(len(answers))]
    base = [reply("SW 5", "no | idea\n", 8.0) for _ in answers]
    own = [reply("SW 5", answer, 1.0) for answer in answers]
    given = [Given("base", base, 10, 1.5), Given("adapter", own, 10, 1.7)]
    signed = {"by": "kind", "seed": settings.seed}
    return make_scorecard(given, rows, [str(n) for n, _ in rows], settings, signed)


def test_the_scorecard_holds_figures_groups_fields_and_rows() -> None:
    """Twenty rows, one of the new kind wrong."""
    card = card_of(["SW 4", *["SW 5"] * 19])
    adapter = card.contender("adapter")
    assert adapter.measures["exact"].value == pytest.approx(0.95)
    assert adapter.measures["loss"].value == pytest.approx(0.25)
    assert adapter.fields == {"way": 1.0, "force": 0.95}
    assert adapter.by["new"]["exact"] == pytest.approx(0.9)
    assert adapter.by["old"]["exact"] == 1.0
    assert card.by_counts == {"new": 10, "old": 10}
    assert {difference.word for difference in adapter.differences.values()} == {"better"}
    assert card.contender("base").differences == {}
    assert card.rows[0]["row"] == 3
    assert card.rows[0]["contenders"]["adapter"]["exact"] == 0
    assert "rows" not in card.as_mapping()
    assert card.as_mapping() == card_of(["SW 4", *["SW 5"] * 19]).as_mapping()
    shuffled = card_of([*["SW 5"] * 18, "SW 4", "SW 5"])
    assert shuffled.contender("adapter").measures["exact"].value == pytest.approx(0.95)


def test_the_page_shows_what_the_card_holds() -> None:
    """Figures, verdict, groups, fields, answers side by side with their bars and line ends made harmless."""
    card = card_of(["SW 4", *["SW 5"] * 19])
    page = scorecard_markdown(card, ["the prompt"] * 20, most=2)
    assert "# Scorecard on 20 test rows" in page
    assert "| base | no \\| idea<br> |" in page
    assert "18 more rows" in page
    assert "| adapter | 1.000 | 0.950 |" in page
    assert verdict_lines(card)[0].startswith("adapter is better than base: loss -1.750, exact +0.950")
    with pytest.raises(ValueError, match="1 replies to 0 rows"):
        make_scorecard([Given("base", [reply("a", "b")], 1)], [], [], ScoreSettings(), {"by": ""})
