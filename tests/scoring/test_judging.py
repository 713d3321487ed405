"""Judges and picks: grades that can be read, orders that disagree, what a person picked."""

from __future__ import annotations

import dataclasses
import json
import sys
from collections.abc import Sequence
from pathlib import Path
from typing import Any

import psutil
import pytest
import scipy.stats

from foldkit.formats import FoldKitError, InputError
from foldkit.scoring import MEASURES, Asked, Given, JudgeSettings, Reply, Resamples, ScoreSettings, make_scorecard
from foldkit.scoring.graders import KeptGrades, command_grader, function_grader
from foldkit.scoring.judge import (
    estimated_tokens,
    grade_items,
    graded,
    judge_measures,
    pair_items,
    preferences,
    question_text,
    read_grade,
    read_pick,
)
from foldkit.scoring.picking import agreement, blind_pairs, keep_pick, preference_rows, read_picks, win_share
from foldkit.scoring.words import judge_lines

from ..conftest import PATIENCE

ALONE = Resamples([*"abcd"], 0)
CLEAR = JudgeSettings({"clear": "Is it clear?"}, function="x.py:y")


@pytest.mark.parametrize(
    ("text", "passes", "expected"),
    [
        ("4", False, 0.75),
        ("Grade: 5/5.", False, 1.0),
        ("I'd say 1 out of 5", False, 0.0),
        ("3 or 4", False, None),
        ("45", False, None),
        ("4.5", False, None),
        ("6", False, None),
        ("", False, None),
        ("very good", False, None),
        ("Pass.", True, 1.0),
        ("It fails: fail", True, 0.0),
        ("pass, or fail?", True, None),
        ("passed", True, None),
    ],
)
def test_a_grade_is_read_or_it_is_none(text: str, passes: bool, expected: float | None) -> None:
    """One whole number from 1 to 5, or one of two words; anything else is no grade."""
    assert read_grade(text, passes=passes) == expected


def test_grades_that_cannot_be_read_are_left_out_and_counted() -> None:
    """The mean is over those that could be read; pairing keeps rows that both have; the card says how many are lost."""
    replies = [Reply("t", answer, n_tokens=1) for answer in ("5", "1", "nothing", "4")]
    items = grade_items(replies, ["pppp"] * 4, CLEAR)
    given, lost = graded(replies, [item["answer"] for item in items], CLEAR)
    assert (lost, [reply.grades["clear"] for reply in given]) == (1, [1.0, 0.0, None, 0.75])
    other, _ = graded(replies, ["3", "", "3", "3"], CLEAR)
    rows = [(index, {}) for index in range(4)]
    asked = Asked(rows, ["p"] * 4, ["0", "1", "2", "3"])
    pairs = {
        name: {"wins": 1, "losses": 0, "ties": 3 - lost, "disagreed": lost - 1, "unreadable": 1, "share": None}
        for name, lost in (("other", 3), ("adapter", 2))
    }
    judge = {"tokens": 9, "criteria": 1, "unreadable": {"base": 1, "adapter": 1}, "pairs": pairs, "kept": 0}
    signed = {"judge": judge}
    card = make_scorecard(
        [Given("base", given, 1), Given("adapter", other, 1)], asked, ScoreSettings(), signed, judge_measures(CLEAR)
    )
    assert card.contenders[0].measures["judge clear"].value == pytest.approx(1.75 / 3)
    assert card.contenders[1].measures["judge clear"].value == 0.5
    gain = card.contenders[1].differences["judge clear"].interval.value
    assert gain == pytest.approx(0.5 - (1.0 + 0.75) / 2)
    lines = judge_lines(card)
    assert "1 of 4 grades of base could not be read and are left out." in lines
    assert ["its grades mean little" in line for line in lines[-2:]] == [True, False]
    # By hand: four prompts of 4, targets of 1 and ten characters of answers; the question each time.
    assert estimated_tokens(items) == (16 + 4 + 10 + 4 * len("Is it clear?")) // 4
    assert estimated_tokens(pair_items(replies, replies, ["pppp"] * 4)) == 2 * (16 + 4 + 2 * 10) // 4


def test_pairs_are_asked_in_both_orders_and_a_judge_of_places_is_found_out() -> None:
    """A judge of length is heard; one that always says first disagrees with itself in every row."""
    base = [Reply("t", text) for text in ("a", "long answer", "same", "x")]
    own = [Reply("t", text) for text in ("longer", "b", "same", "y")]

    def by_length(items: Sequence[dict[str, Any]]) -> list[str]:
        sizes = [(len(item["first"]), len(item["second"])) for item in items]
        return ["first" if a > b else "second" if b > a else "The same." for a, b in sizes]

    items = pair_items(base, own, ["p"] * 4)
    found, words = preferences(by_length(items), ALONE)
    assert words == ["win", "loss", "tie", "tie"]
    assert (found.wins, found.losses, found.ties, found.disagreed) == (1, 1, 2, 0)
    biased, _ = preferences(["first"] * 8, ALONE)
    assert (biased.disagreed, biased.wins, biased.losses) == (4, 0, 0)
    silent, _ = preferences(["either"] * 8, ALONE)
    assert silent.unreadable == 4
    assert (silent.share, silent.p) == (None, 1.0)
    assert read_pick("the SECOND one") == "second"


@pytest.mark.parametrize(
    ("wins", "losses", "says"), [(12, 3, "it is better"), (2, 12, "it is worse"), (9, 6, "these rows")]
)
def test_what_a_judge_decided_has_an_interval_and_a_test(wins: int, losses: int, says: str) -> None:
    """By SciPy's binomial test of the rows that were won or lost; five ties tell nothing; a copy of each, no more."""
    answers = ["better"] * wins + ["worse"] * losses + ["same"] * 5

    def by_name(items: Sequence[dict[str, Any]]) -> list[str]:
        order = {"worse": 0, "same": 1, "better": 2}
        sizes = [(order[item["first"]], order[item["second"]]) for item in items]
        return ["first" if a > b else "second" if b > a else "same" for a, b in sizes]

    found = {}
    for copies in (1, 2):
        resamples = Resamples([str(n // copies) for n in range(copies * len(answers))], 0)
        each = [answer for answer in answers for _ in range(copies)]
        base, own = ([Reply("t", text) for text in texts] for texts in (["same"] * len(each), each))
        found[copies], _ = preferences(by_name(pair_items(base, own, ["p"] * len(own))), resamples)
    test = scipy.stats.binomtest(wins, wins + losses)
    ends = test.proportion_ci(method="wilson")
    once, twice = found[1], found[2]
    assert once.share
    assert (once.share.value, once.share.low, once.share.high) == (wins / (wins + losses), ends.low, ends.high)
    assert once.p == pytest.approx(test.pvalue)
    assert twice.p == pytest.approx(test.pvalue, abs=0.04)  # 9,999 turns: 0.01 off as a rule
    assert twice.share
    assert twice.share.high - twice.share.low == pytest.approx(
        ends.high - ends.low, rel=0.3
    )  # Student's t of 15 is 13% wider
    judge = {"tokens": 9, "criteria": 0, "unreadable": {}, "pairs": {"own": dataclasses.asdict(once)}, "kept": 0}
    pairs = {"judge": judge}
    asked = Asked([(0, {})], ["p"], ["0"])
    card = make_scorecard([Given("base", [Reply("t", "t")], 1)], asked, ScoreSettings(), pairs, [MEASURES["exact"]])
    assert f"Of those decided it won {wins / (wins + losses):.3f} ({ends.low:.3f}–" in judge_lines(card)[1]
    assert f"): {says}" in judge_lines(card)[1]


def test_a_program_and_a_function_may_judge(tmp_path: Path) -> None:
    """JSON lines in any order and with gaps; a program that fails is told with its last words."""
    (tmp_path / "judge.py").write_text(
        "import json, sys\n"
        "items = [json.loads(line) for line in sys.stdin]\n"
        "for item in reversed(items[1:]):\n"
        "    print(json.dumps({'id': item['id'], 'grade': 1 + len(item['answer'])}))\n"
        "print('not a line')\n"
        "print(json.dumps({'id': '0'}))\n"
        "def graded(item):\n    return 'pass' if item['answer'] else 1 / 0\n"
    )
    items = [{"id": str(n), "answer": "x" * n} for n in range(3)]
    assert [*command_grader(f"{sys.executable} judge.py", tmp_path)(items)] == [("2", "3"), ("1", "2")]
    for _ in range(20):  # whether it ends before it was given all, or after
        with pytest.raises(FoldKitError, match=r"ended with code 3 after 0 of 3 grades; .* last words: no room"):
            [*command_grader("echo begun >&2; echo no room >&2; exit 3", tmp_path)(items)]
    (tmp_path / "slow.py").write_text(
        'import os, time\nprint(\'{"id": "0", "grade": %d}\' % os.getpid(), flush=True)\ntime.sleep(600)\n'
    )
    begun = command_grader(f"{sys.executable} slow.py; exit", tmp_path)(items)
    _, grade = next(iter(begun))
    program = psutil.Process(int(grade))
    begun.close()  # as where the scoring is stopped: so is the program
    _, alive = psutil.wait_procs([program], PATIENCE)
    assert all(one.status() == psutil.STATUS_ZOMBIE for one in alive)
    (tmp_path / "own.py").write_text("def graded(item):\n    return 'pass' if item['answer'] else 1 / 0\n")
    grader = function_grader("own.py:graded", tmp_path)
    assert [*grader(items[1:])] == [("1", "pass"), ("2", "pass")]
    with pytest.raises(InputError, match="ZeroDivisionError"):
        [*grader(items)]
    asked = {"prompt": "P", "target": "T", "answer": "A", "question": "Is it clear?", "scale": "pass or fail"}
    assert "Is it clear? Say pass or fail." in question_text({"task": "grade", **asked})
    assert "Say first, second or same." in question_text({"task": "compare", **asked, "first": "F", "second": "S"})


def test_a_judge_is_not_asked_twice(tmp_path: Path) -> None:
    """It ends in the middle, and its first grade cannot be read: the next time it gets that one and the rest alone.

    A question that comes twice is asked once, and another program's grades are not taken for it.
    """
    (tmp_path / "judge.py").write_text(
        "import json, sys\n"
        "for number, line in enumerate(sys.stdin):\n"
        "    item = json.loads(line)\n"
        "    print(item['answer'], file=open('asked', 'a'))\n"
        "    print(json.dumps({'id': item['id'], 'grade': '?' if item['answer'] == 'a' else 4}), flush=True)\n"
        "    if number == 2 and sys.argv[1:]:\n"
        "        sys.exit('no money')\n"
    )
    replies = [Reply("t", answer) for answer in "abcdecc"]
    items, kept_at = grade_items(replies, ["p"] * 7, CLEAR), tmp_path / "kept.jsonl"
    heard: list[int] = []
    broken = KeptGrades(command_grader(f"{sys.executable} judge.py ends", tmp_path), kept_at)
    with pytest.raises(FoldKitError, match="after 3 of 5 grades; what could be read is kept; last words: no money"):
        broken.texts(items, heard.append)
    assert sum(heard) == 2 + 3
    with kept_at.open("a") as file:
        file.write('{"item": "sha')
    again = KeptGrades(command_grader(f"{sys.executable} judge.py", tmp_path), kept_at)
    assert [item["answer"] for item in again.missing(items).values()] == ["a", "d", "e"]
    heard.clear()
    assert again.texts(items, heard.append) == ["?", *"444444"]
    assert (tmp_path / "asked").read_text().split() == [*"abc", *"ade"]
    assert (sum(heard), again.n_kept) == (7, 4)
    other = grade_items(replies, ["another prompt"] * 7, CLEAR)
    assert len(again.missing(other)) == 5
    heard.clear()
    assert KeptGrades(lambda items: [], kept_at).texts(other, heard.append) == [""] * 7
    assert sum(heard) == 7


def test_picks_are_blind_kept_and_become_pairs(tmp_path: Path) -> None:
    """Sides are drawn by the seed; equal answers are not asked; picks of other answers are dropped; shares by SciPy."""
    rows = [
        {"row": n, "prompt": f"p{n}", "contenders": {"base": {"answer": "b"}, "adapter": {"answer": f"a{n}"}}}
        for n in range(40)
    ]
    rows[7]["contenders"]["adapter"]["answer"] = "b "
    pairs = blind_pairs(rows, "base", "adapter", 3)
    assert len(pairs) == 39
    assert pairs == blind_pairs(rows, "base", "adapter", 3)
    assert 8 < sum(pair.sides[0] == "base" for pair in pairs) < 32
    assert [pair.row for pair in pairs] != sorted(pair.row for pair in pairs)
    path = tmp_path / "picks.jsonl"
    for number, pair in enumerate(pairs[:12]):
        better = "left" if pair.sides[0] == "adapter" else "right"
        worse = "right" if better == "left" else "left"
        keep_pick(path, pair, "same" if number < 2 else worse if number < 5 else better)
    assert "adapter" not in path.read_text()
    with path.open("a") as file:
        file.write('{"row": 1, "pi')
    picks = read_picks(path, pairs)
    found = win_share(pairs, picks, "adapter")
    assert (found.wins, found.losses, found.ties) == (7, 3, 2)
    ends = scipy.stats.binomtest(7, 10).proportion_ci(method="wilson")
    assert found.share
    assert (found.share.low, found.share.high) == (ends.low, ends.high)
    made = preference_rows(pairs, picks)
    assert len(made) == 10
    assert {row["rejected"] for row in made if row["chosen"] != "b"} == {"b"}
    assert json.loads(json.dumps(made[0])).keys() == {"row", "question", "chosen", "rejected"}
    words = dict.fromkeys((pair.row for pair in pairs), "win")
    assert agreement(pairs, picks, words, "adapter") == (7, 10)
    rows[pairs[5].row]["contenders"]["adapter"]["answer"] = "changed"
    assert len(read_picks(path, blind_pairs(rows, "base", "adapter", 3))) == 11
    assert win_share(pairs, {}, "adapter").share is None
    with pytest.raises(InputError, match="score with it first"):
        blind_pairs(rows, "base", "other", 3)
