"""Transcripts, grouped and bilingual sources become tables of examples."""

from __future__ import annotations

import itertools
import json
from collections.abc import Callable
from pathlib import Path
from typing import Any

import pandas as pd
import pytest
from hypothesis import given
from hypothesis import strategies as st

from foldkit.formats import FoldKitError, InputError, UsageError
from foldkit.rows import SHAPES, RowsSettings, has_turns, read_rows, usual_marks
from foldkit.rows.guessing import listed_values
from foldkit.rows.shapes import (
    BilingualSettings,
    ChoicesSettings,
    ComparedSettings,
    GradedSettings,
    GroupedSettings,
    JudgedSettings,
    MarkedSettings,
    PickedSettings,
    PiecesSettings,
    TickedSettings,
    TranscriptSettings,
    tick_columns,
    told_grades,
    told_sides,
)
from foldkit.rows.shapes.pieces import cut
from foldkit.rows.shapes.threads import IN_A_RING, first_lines, upwards
from foldkit.rows.tables import times

Write = Callable[[str, str], Path]
TRANSCRIPT = [
    ("0", "Low Pell", "Desk, Low Pell."),
    ("5", "Low Pell", "Er, wind west, um, five."),
    ("9", "desk", "Gusts?"),
    ("12", "Low Pell", "uh"),
    ("14", "Low Pell", "Seven."),
    ("20", "desk", "Copied."),
    ("22", "desk", "Horn on."),
    ("900", "Orra Head", "Desk?"),
    ("905", "Low Pell", "Me too."),
    ("910", "desk", "Wait."),
]


def spoken() -> pd.DataFrame:
    columns = list(zip(*TRANSCRIPT, strict=True))
    index = pd.RangeIndex(1, len(TRANSCRIPT) + 1)
    return pd.DataFrame(dict(zip(("time", "who", "text"), columns, strict=True)), index=index, dtype=object)


def talks(**settings: object) -> tuple[list[list[dict[str, object]]], pd.DataFrame, dict[int, str]]:
    chosen = TranscriptSettings(("desk",), speaker="who", **settings)  # type: ignore[arg-type]
    table, left_out = SHAPES["transcript"](spoken(), chosen)
    return [json.loads(text) for text in table["messages"]], table, left_out


def test_a_transcript_becomes_an_example_for_each_reply() -> None:
    """What one side says is one turn, without fillers; a gap ends a talk; only the last reply is learned."""
    messages, table, left_out = talks(time="time", gap=600.0, fillers=("er", "um", "uh"))
    assert messages == [
        [{"role": "user", "content": "Desk, Low Pell. wind west, five."}, {"role": "assistant", "content": "Gusts?"}],
        [
            {"role": "user", "content": "Desk, Low Pell. wind west, five."},
            {"role": "assistant", "content": "Gusts?", "learned": False},
            {"role": "user", "content": "Seven."},
            {"role": "assistant", "content": "Copied. Horn on."},
        ],
        [
            {"role": "user", "content": "Orra Head: Desk?\nLow Pell: Me too."},
            {"role": "assistant", "content": "Wait."},
        ],
    ]
    assert table[["talk", "source_row"]].to_numpy().tolist() == [["1", "3"], ["1", "6"], ["2", "10"]]
    assert list(table.index) == [1, 2, 3]
    assert left_out == {4: "nothing said"}


@pytest.mark.parametrize(
    ("cells", "seconds"),
    [
        (["00:00:09", "1:02:03,5"], [9, 3723.5]),
        (["18:00", "18:01:30"], [64800, 64890]),
        (["2031-03-04T00:00:01", "2031-03-04T00:01"], [1930348801, 1930348860]),
        (["3", "4.5"], [3, 4.5]),
        (["13/04/2031", "04/05/2031"], [1933804800, 1935619200]),
        (["4/13/31, 1:30 PM", "4/3/31, 1:30 AM"], [1933853400, 1932946200]),
        (["13.4.2031 18:00:01", "3.4.2031 18:00:00"], [1933869601, 1933005600]),
        (["4/3/2031", "5/3/2031"], "whose day and month can be told apart"),
        (["13/4/2031", "4/13/2031"], "or a number"),
        (["18:60", "18:00"], "or a number"),
        (["18:00", "18"], "or a number"),
    ],
)
def test_times_are_dates_clocks_or_numbers(cells: list[str], seconds: list[float] | str) -> None:
    """All of one kind, in seconds; the first that is none is named."""
    column = pd.Series(cells, index=[7, 8], name="at", dtype=object)
    if isinstance(seconds, str):
        with pytest.raises(InputError, match=f"row 7, column at: time: expected a date {seconds}"):
            times(column)
    else:
        assert times(column).tolist() == seconds


def test_the_context_of_a_reply_is_as_long_as_asked() -> None:
    """It begins with the side that is not learned; without a gap all is one talk, and names are said in it."""
    messages, table, _ = talks(earlier=1)
    assert [len(turns) for turns in messages] == [2, 2, 2]
    assert messages[1][0]["content"] == "Low Pell: uh Seven."
    assert set(table["talk"]) == {"1"}
    longer, _, _ = talks(earlier=2)
    assert [len(turns) for turns in longer] == [2, 2, 2]
    apart, _, left_out = talks(talk="who", earlier=3)
    assert (apart, left_out) == ([], {3: "a reply to nothing: its talk begins with it"})


def test_messages_with_roles_keep_their_lines_and_their_system_text() -> None:
    """A system text begins a talk, and stands before every reply of it, whatever else has been left behind."""
    said = [("system", "Be short."), ("user", "Wind?\n\n  now"), ("assistant", "W:\n- five"), ("user", "Um, sea?")]
    said += [("user", "Ask\nme"), ("assistant", "Rough."), ("System", "Sleep."), ("user", "Hm"), ("assistant", "Zz.")]
    table = pd.DataFrame(said, columns=["role", "content"], index=range(1, 10), dtype=object)
    settings = TranscriptSettings(("assistant",), "role", "content", fillers=("um",), earlier=1)
    found, _ = SHAPES["transcript"](table, settings)
    assert [[(turn["role"], turn["content"]) for turn in json.loads(text)] for text in found["messages"]] == [
        [("system", "Be short."), ("user", "Wind?\n\n  now"), ("assistant", "W:\n- five")],
        [("system", "Be short."), ("user", "sea?\nAsk\nme"), ("assistant", "Rough.")],
        [("system", "Sleep."), ("user", "Hm"), ("assistant", "Zz.")],
    ]
    assert found["talk"].tolist() == ["1", "1", "2"]


# Number, what it answers, who, what; of two threads in one, with two replies to one message.
THREADS = [
    ("1", "", "system", "Short."),
    ("2", "1", "Odda", "Sea?"),
    ("3", "", "Low Pell", "Fog?"),
    ("4", "2", "desk", "Calm."),
    ("5", "2", "desk", "Slight."),
    ("6", "3", "desk", "None."),
    ("7", "6", "desk", "Yet."),
    ("8", "4", "Odda", "And wind?"),
    ("9", "8", "Odda", " "),
    ("10", "9", "desk", "West."),
    ("11", "99", "desk", "To whom?"),
    ("12", "13", "desk", "Round."),
    ("13", "12", "Odda", "And round."),
]


def threads(n_earlier: int, **settings: object) -> tuple[list[str], list[str], dict[int, str]]:
    cells = list(zip(*THREADS, strict=True))
    index = pd.RangeIndex(1, len(THREADS) + 1)
    columns = {**dict(zip(("id", "parent", "who", "text"), cells, strict=True)), **settings}
    table = pd.DataFrame(columns, index=index, dtype=object)
    own = {"talk": "day"} if "day" in settings else {}
    chosen = TranscriptSettings(("desk",), "who", number="id", reply_to="parent", earlier=n_earlier, **own)
    found, left_out = SHAPES["transcript"](table, chosen)
    said = [" ".join(one["content"] for one in json.loads(cell)) for cell in found["messages"]]
    assert all(
        sum(one.get("learned", one["role"] == "assistant") for one in json.loads(c)) == 1 for c in found["messages"]
    )
    return said, found["talk"].tolist(), left_out


def test_what_stands_before_a_reply_is_what_it_answers() -> None:
    """Threads stay apart, as do two replies to a message; a reply that goes on is one; system texts stay."""
    reasons = {9: "nothing said", 11: "a reply to nothing: its talk begins with it"}
    reasons |= {12: "a reply to nothing: its talk begins with it"}  # they lead back to themselves
    said = ["Short. Sea? Calm.", "Short. Sea? Slight.", "Fog? None. Yet.", "Short. Sea? Calm. And wind? West."]
    assert threads(6) == (said, ["1", "1", "3", "1"], reasons)
    for n_earlier in (1, 2):  # a reply is no beginning
        assert threads(n_earlier) == ([*said[:3], "Short. And wind? West."], ["1", "1", "3", "1"], reasons)
    with pytest.raises(InputError, match="rows 1 and 3, column id: number: expected one of its own"):
        threads(6, id=["1", "2", "1", *map(str, range(4, 14))])
    days = ["a", "b"] * 6 + ["a"]
    in_talks = threads(6, id=[str(i // 2) for i in range(13)], parent="", day=days)
    assert (in_talks[0], sorted(in_talks[2])) == ([], [4, 5, 6, 7, 9, 10, 11, 12])
    for wrong in ({"number": "id"}, {"number": "id", "reply_to": "parent", "gap": 60, "time": "at"}):
        with pytest.raises(UsageError, match=r"\[rows.transcript\]"):
            TranscriptSettings(("desk",), **wrong)  # type: ignore[arg-type]


@given(st.lists(st.integers(-1, 12), min_size=1, max_size=13))
def test_first_lines_are_where_the_way_up_ends(answered: list[int]) -> None:
    """As a walk of at most as many steps as there are lines finds; one that does not end is in a ring."""
    places = [place if 0 <= place < len(answered) else None for place in answered]
    for start, first in enumerate(first_lines(places)):
        way = list(itertools.islice(upwards(start, places), len(places) + 1))
        assert first == (way[-1] if len(way) <= len(places) else IN_A_RING)


def test_grouped_texts_are_a_row_each() -> None:
    """From JSON lists or lines, each text once; too few leave the label out, of too many some are drawn by the seed."""
    cells = {"label": ["fog", "calm", "fog", "fog", "gale"], "texts": ['["a", "b", "a"]', "c", "b\n\nd\ne", "a", " "]}
    table = pd.DataFrame(cells, index=[1, 2, 3, 4, 5])
    found, left_out = SHAPES["grouped"](table, GroupedSettings(minimum=2))
    expected = [["fog", "a", "1"], ["fog", "b", "1"], ["fog", "d", "3"], ["fog", "e", "3"]]
    assert found.to_numpy().tolist() == expected
    nothing = {
        4: "label 'fog': no text that it does not have already",
        5: "label 'gale': no text that it does not have already",
    }
    assert left_out == {2: "label 'calm': 1 texts, the minimum is 2"} | nothing
    drawn = [SHAPES["grouped"](table, GroupedSettings(maximum=2, seed=seed))[0] for seed in (0, 0, 1, 2, 3)]
    assert drawn[0].equals(drawn[1])
    assert any(not drawn[0].equals(other) for other in drawn[2:])
    assert {len(one) for one in drawn} == {3}
    deep = pd.DataFrame({"label": ["fog"], "texts": ["[" * 99999]}, index=[1])
    assert SHAPES["grouped"](deep, GroupedSettings())[0]["text"].tolist() == ["[" * 99999]


@pytest.mark.parametrize(
    ("direction", "expected"),
    [
        ("forward", [["glas", "glass", "English", "1"]]),
        ("backward", [["glass", "glas", "Pellish", "1"]]),
        ("both", [["glas", "glass", "English", "1"], ["glass", "glas", "Pellish", "1"]]),
    ],
)
def test_bilingual_rows_in_either_direction(direction: str, expected: list[list[str]]) -> None:
    """A blank side leaves a row out; the languages are named as asked, or as their columns."""
    table = pd.DataFrame({"pel": ["glas", ""], "eng": ["glass", "sea"]}, index=[1, 2])
    settings = BilingualSettings("pel", "eng", ("Pellish", "English"), direction)
    found, left_out = SHAPES["bilingual"](table, settings)
    assert found.to_numpy().tolist() == expected
    assert left_out == {2: "blank: one of the two languages"}
    plain, _ = SHAPES["bilingual"](table, BilingualSettings("pel", "eng"))
    assert list(plain["into"]) == ["eng", "pel"]


def test_a_shaped_source_is_read_through_its_settings(write: Write, tmp_path: Path) -> None:
    """Row numbers are new, what is left out is named by its source row; two shapes at once are refused."""
    write("a.csv", "pel,eng\nglas,glass\n,sea\nsjo,sea\n")
    rows = read_rows(RowsSettings("a.csv", bilingual=BilingualSettings("pel", "eng")), tmp_path)
    assert list(rows.table.index) == [1, 2, 3, 4]
    assert [(bad.row, bad.reason) for bad in rows.bad] == [(2, "source row 2: blank: one of the two languages")]
    with pytest.raises(UsageError, match="grouped and bilingual"):
        RowsSettings("a.csv", bilingual=BilingualSettings("a", "b"), grouped=GroupedSettings())
    known = "transcript grouped bilingual graded judged picked compared choices ticked marked pieces"
    assert known.split() == list(SHAPES)


def test_ticks_in_columns_are_labels() -> None:
    """In any of the usual words; what says neither, or nothing at all, is left out; other columns stay."""
    cells = {"fog": ["1", "TRUE", " ", "x", "", "1.0"], "ice": ["no", "Yes", "N", "", "", "two"], "day": list("abcdef")}
    table = pd.DataFrame(cells, index=range(1, 7))
    found, left_out = SHAPES["ticked"](table, TickedSettings(("ice", "fog"), "hazard", "+", "-"))
    assert found["hazard"].tolist() == ["fog", "ice+fog", "-", "fog"]
    assert (found["day"].tolist(), found["source_row"].tolist()) == (list("abcd"), list("1234"))
    assert left_out == {5: "blank: ice, fog", 6: "ice 'two' says neither yes nor no"}
    assert tick_columns(table) == ["fog"]
    assert tick_columns(table[:5].assign(all="1", none="0")) == ["fog", "ice"]
    with pytest.raises(InputError, match=r"\[rows.ticked\] columns: column"):
        SHAPES["ticked"](table, TickedSettings(("ice", "frog")))
    with pytest.raises(UsageError, match="two or more"):
        TickedSettings(("fog",))


def test_wrong_settings_of_shapes_are_refused() -> None:
    """A speaker who says nothing, a gap without times, a time that is none, a column that is not there."""
    with pytest.raises(UsageError, match="did you mean 'desk'"):
        SHAPES["transcript"](spoken(), TranscriptSettings(("dsk",), speaker="who"))
    for settings in ({"learned": ()}, {"learned": ("a",), "gap": 3.0}, {"learned": ("a",), "earlier": 0}):
        with pytest.raises(UsageError, match=r"\[rows.transcript\]"):
            TranscriptSettings(**settings)  # type: ignore[arg-type]
    with pytest.raises(InputError, match="row 1, column text"):
        talks(time="text")
    two = {"compared": ComparedSettings(), "marked": MarkedSettings()}
    for call in (
        lambda: talks(talk="tlk"),
        lambda: SHAPES["compared"](spoken(), ComparedSettings(chosen="text", rejected="txt")),
        lambda: GroupedSettings(minimum=3, maximum=2),
        lambda: RowsSettings("r.csv", **two),  # type: ignore[arg-type]
        lambda: RowsSettings("r.csv", judged=JudgedSettings(), picked=PickedSettings(), compared=ComparedSettings()),
    ):
        with pytest.raises(FoldKitError):
            call()
    with pytest.raises(UsageError, match="direction"):
        BilingualSettings("a", "b", direction="up")


def test_graded_answers_are_pairs_by_a_gap() -> None:
    """The best against each that is worse enough; those too near it, and those without a number, are named."""
    grades = [("a", "one", "3"), ("a", "two", "5"), ("b", "three", "1"), ("a", "four", "4.5"), ("a", "five", "-1")]
    cells = dict(zip(("prompt", "answer", "grade"), zip(*grades, strict=True), strict=True))
    table = pd.DataFrame(cells, index=pd.RangeIndex(1, 6), dtype=object)
    found, left_out = SHAPES["graded"](table, GradedSettings(gap=2))
    assert found.to_dict("records") == [
        {"prompt": "a", "chosen": "two", "rejected": answer, "source_row": row}
        for answer, row in (("one", "1"), ("five", "5"))
    ]
    alone = "no answer to its prompt has a grade 2 worse than its own, 1"
    assert left_out == {4: "its grade 4.5 is not 2 worse than the best, 5", 3: alone}
    lowest, left_out = SHAPES["graded"](table.replace("1", "nan"), GradedSettings(gap=4, best="lowest"))
    assert lowest[["chosen", "rejected"]].to_numpy().tolist() == [["five", answer] for answer in ("one", "two", "four")]
    assert left_out == {3: "no answer with a grade that is a number"}
    close, _ = SHAPES["graded"](table.replace({"5": "0.3", "3": "0.2", "4.5": "0.21"}), GradedSettings(gap=0.1))
    assert close["rejected"].tolist() == ["one", "five"]
    for wrong in ({"gap": float("nan")}, {"best": "first"}):
        with pytest.raises(UsageError, match=next(iter(wrong))):
            GradedSettings(**wrong)  # type: ignore[arg-type]


def test_columns_that_answers_to_a_prompt_share_stay() -> None:
    """Others are of one of them alone."""
    cells = {"day": "334", "prompt": "aab", "answer": "xyz", "grade": "121", "by": "klm"}
    table = pd.DataFrame({name: list(values) for name, values in cells.items()}, index=[7, 8, 9], dtype=object)
    found, _ = SHAPES["graded"](table, GradedSettings())
    pair = {"prompt": "a", "day": "3", "chosen": "y", "rejected": "x", "source_row": "7"}
    assert found.to_dict("records") == [pair]


@pytest.mark.parametrize(
    ("cells", "settings", "worse"),
    [
        ({"said": ["a", "b", "c"], "scores": [2, 5, 4.8]}, {"answer": "said", "grade": "scores", "gap": 0.3}, "a"),
        ({"said": ["a", "b"], "ranks": [1, 0]}, {"answer": "said", "grade": "ranks", "best": "lowest"}, "a"),
        (
            {"said": [{"text": "a", "score": "0.2"}, {"text": "b", "score": 0.9}, {"text": "c", "score": None}]},
            {"answers": "said", "answer": "text", "grade": "score", "gap": 0.07},
            "a",
        ),
        ({"said": [{"text": "a", "rating": 1}, {"text": "b", "rating": 3}, {"text": "c", "rating": 2}]}, None, "ac"),
    ],
)
def test_answers_with_grades_in_lists(cells: dict[str, Any], settings: dict[str, Any] | None, worse: str) -> None:
    """Side by side or as objects; how they stand there is told, and where most rows have no two it is not."""
    rows = [{"prompt": "sea?", "day": "3"} | cells, {"prompt": "sea?", "day": "4"} | dict.fromkeys(cells, "?")]
    texts = [{name: cell if isinstance(cell, str) else json.dumps(cell) for name, cell in row.items()} for row in rows]
    table = pd.DataFrame(texts, index=[7, 8], dtype=object)
    told = told_grades(table.head(1), "said", next((name for name in cells if name != "said"), ""))
    expected = {"answers": "said", "answer": "text", "grade": "rating"} if settings is None else settings
    assert told == GradedSettings(**expected)
    found, left_out = SHAPES["graded"](table, told)
    pairs = [{"prompt": "sea?", "day": "3", "chosen": "b", "rejected": one, "source_row": "7"} for one in worse]
    assert found.to_dict("records") == pairs
    assert left_out == {8: "no answer with a grade that is a number"}
    assert told_grades(table.tail(1), "said", "") is None


def test_replies_with_a_verdict_are_good_or_bad_alone() -> None:
    """By the words of the settings in any letter case, other columns kept; other verdicts are named."""
    cells = {"ask": ["a", "b", "c"], "said": ["one", "two", "three"], "thumb": [" Fine", "POOR", "yes"]}
    table = pd.DataFrame(cells, index=pd.RangeIndex(1, 4), dtype=object)
    settings = JudgedSettings("said", "thumb", good=("fine",), bad=("poor",))
    found, left_out = SHAPES["judged"](table, settings)
    assert found.to_dict("records") == [
        {"ask": "a", "chosen": "one", "rejected": "", "source_row": "1"},
        {"ask": "b", "chosen": "", "rejected": "two", "source_row": "2"},
    ]
    assert left_out == {3: "its verdict 'yes' is none of fine, poor"}
    with pytest.raises(FoldKitError, match="verdict"):
        SHAPES["judged"](table, JudgedSettings("said"))


ASK, BETTER, WORSE = (
    {"role": role, "content": text} for role, text in (("user", "sea?"), *[("assistant", t) for t in "bw"])
)
EARLIER = [{"role": "system", "content": "short"}, ASK, {"role": "assistant", "content": "calm"}]


@pytest.mark.parametrize(
    ("prompt", "chosen", "rejected", "before"),
    [
        ([ASK], [BETTER], [WORSE], [ASK]),
        ("", [ASK, BETTER], [ASK, WORSE], [ASK]),
        ("sea?", [ASK, BETTER], [ASK, WORSE], [ASK]),
        ("sea?", "b", "w", [ASK]),
        ([*EARLIER, ASK], [BETTER], "w", [*EARLIER, ASK]),
        (EARLIER[:1], [ASK, BETTER], [ASK, WORSE], [EARLIER[0], ASK]),
        ("sea?", [*EARLIER, ASK, BETTER], [*EARLIER, ASK, WORSE], [*EARLIER, ASK]),
        ("", [BETTER], [ASK, WORSE], "chosen and rejected differ before their last reply"),
        ("", "b", "w", "chosen is no list of messages, and nothing comes before it"),
        ("", [ASK, BETTER], [ASK], "rejected does not end in a reply"),
        ("sea?", "", " ", "chosen and rejected are blank"),
        ([{"role": "user", "content": 3}], "b", "w", "prompt: message 1, of role user, has no text as its content"),
    ],
)
def test_conversations_that_part_in_their_last_reply(prompt: Any, chosen: Any, rejected: Any, before: Any) -> None:
    """Lists of messages or the reply alone, what comes before in a column of its own or in both; none of it learned."""
    cells = {"prompt": prompt, "chosen": chosen, "rejected": rejected, "day": "3"}
    texts = {name: [cell if isinstance(cell, str) else json.dumps(cell)] for name, cell in cells.items()}
    renamed = {name: text.replace('"assistant"', '"desk"') for name, (text,) in texts.items()}
    table, other = (pd.DataFrame(cells, index=[7], dtype=object) for cells in (texts, renamed))
    found, left_out = SHAPES["compared"](table, ComparedSettings())
    by_role, _ = SHAPES["compared"](other, ComparedSettings(roles={"desk": "assistant"}))
    assert by_role.to_dict("records") == found.to_dict("records")
    if isinstance(before, str):
        assert (len(found), left_out) == (0, {7: before})
        return
    (row,) = found.to_dict("records")
    messages = [message | ({"learned": False} if message["role"] == "assistant" else {}) for message in before]
    assert json.loads(row.pop("messages")) == messages
    assert (row, left_out) == ({"day": "3", "chosen": "b", "rejected": "w", "source_row": "7"}, {})


@pytest.mark.parametrize(
    ("shape", "cells", "settings", "pairs", "reasons"),
    [
        (
            "picked",
            [([ASK, BETTER], [ASK, WORSE], "a"), ([ASK, WORSE], [ASK, BETTER], "b"), ([BETTER], [ASK, WORSE], "a")],
            PickedSettings("one", "two", "three"),
            [("b", "w", "1"), ("b", "w", "2")],
            {3: "chosen and rejected differ before their last reply"},
        ),
        (
            "judged",
            [([ASK, BETTER], "", "up"), ([ASK, WORSE], "", "down"), ([ASK], "", "up"), ([ASK, BETTER], "", "so")],
            JudgedSettings("one", "three"),
            [("b", "", "1"), ("", "w", "2")],
            {3: "chosen does not end in a reply", 4: "its verdict 'so' is none of 0, 1, bad, down, "},
        ),
        (
            "graded",
            [([ASK], ["w", "b"], [1, 2]), ([ASK], ["w", "b"], [1, 1.5])],
            GradedSettings("one", "two", "three"),
            [("b", "w", "1")],
            {2: "no answer to its prompt has a grade 1 worse than its own, 1.5"},
        ),
    ],
)
def test_conversations_that_are_paired_are_compared(
    tmp_path: Path, shape: str, cells: Any, settings: Any, pairs: Any, reasons: dict[int, str]
) -> None:
    """In two shapes, one after the other; what is left out in either is named by its row in the source."""
    rows = [dict(zip(("one", "two", "three"), own, strict=True)) for own in cells]
    (tmp_path / "r.jsonl").write_text("".join(json.dumps(row) + "\n" for row in rows))
    own = {shape: settings, "compared": ComparedSettings(prompt="one" if shape == "graded" else "prompt")}
    read = read_rows(RowsSettings("r.jsonl", **own), tmp_path)
    found = read.table[["chosen", "rejected", "source_row"]].itertuples(index=False, name=None)
    assert list(found) == pairs
    assert {json.loads(cell)[0]["content"] for cell in read.table["messages"]} == {"sea?"}
    assert {bad.row for bad in read.bad} == set(reasons)
    assert all(bad.reason.startswith(f"source row {bad.row}: {reasons[bad.row]}") for bad in read.bad)


CHOICES = ["2", "3", "1"]


@pytest.mark.parametrize(
    ("answers", "first", "letters"),
    [
        (["1", "3", "2"], 0, "CBA"),  # by their texts, though they are places too
        (["b", "(C)", "4"], 0, "BC"),
        (["0", "2", "3.0"], 0, "AC"),
        (["1", "3.0", "9"], 1, "AC"),
        (["D", "1", ""], 0, "C"),
    ],
)
def test_choices_stand_as_lettered_lines(answers: list[str], first: int, letters: str) -> None:
    """The answer by what most rows have: text, letter or place; a row whose answer is none of these is left out."""
    lists = [json.dumps([f"sea {text}" if "3.0" in answers else text for text in CHOICES])] * 3
    table = pd.DataFrame({"q": list("xyz"), "choices": lists, "right": answers}, index=[7, 8, 9], dtype=object)
    found, left_out = SHAPES["choices"](table, ChoicesSettings(answer="right", first=first))
    assert "".join(found["answer"]) == letters
    assert [row for row in (7, 8, 9) if str(row) not in set(found["source_row"])] == sorted(left_out)
    assert all("is none of its 3 choices" in reason for reason in left_out.values())
    for row in found.to_dict("records"):
        assert f"{row['answer']}. {row['answer_text']}" in row["choices"].split("\n")
        assert [line[:3] for line in row["choices"].split("\n")] == ["A. ", "B. ", "C. "]


def test_choices_in_columns_of_their_own(write: Write) -> None:
    """Blanks at the end are none; a blank between stands, so that letters stay; fewer than two are left out."""
    path = write("a.csv", "q,a,b,c,answer\nx,1,2,,A\ny,1,,3,C\nz,1,,,A\n")
    settings = ChoicesSettings(("a", "b", "c"))
    rows = read_rows(RowsSettings(path.name, choices=settings), path.parent)
    assert list(rows.table["choices"]) == ["A. 1\nB. 2", "A. 1\nB. \nC. 3"]
    has_letters = pd.DataFrame({"choices": ["A) calm\nB) rough"], "answer": ["b"]}, index=[7], dtype=object)
    found, _ = SHAPES["choices"](has_letters, ChoicesSettings())
    assert found[["choices", "answer"]].to_numpy().tolist() == [["A) calm\nB) rough", "B"]]
    assert [bad.reason for bad in rows.bad] == ["source row 3: 1 choices: from 2 to 26 can be told apart"]
    with pytest.raises(InputError, match="did you mean 'c'"):
        read_rows(RowsSettings(path.name, choices=ChoicesSettings(("a", "cc"))), path.parent)
    for wrong in ({"choices": ()}, {"first": 2}):
        with pytest.raises(UsageError, match=r"\[rows.choices\]"):
            ChoicesSettings(**wrong)  # type: ignore[arg-type]


def marked(text: str, **settings: Any) -> Any:
    """The messages that a text holds, or why it is left out."""
    table = pd.DataFrame({"text": [text], "day": ["3"]}, index=[7], dtype=object)
    found, left_out = SHAPES["marked"](table, MarkedSettings(**settings))
    if left_out:
        return left_out[7]
    (row,) = found.to_dict("records")
    assert {**row, "messages": ""} == {"day": "3", "messages": "", "source_row": "7"}
    return [(message["role"], message["content"]) for message in json.loads(row["messages"])]


def test_marks_of_who_speaks_part_a_text_into_messages() -> None:
    """At the head of a line alone, but for some; what one side says is one, what stands before all is the system's."""
    assert marked("User: Sea?\n Assistant: Calm.\nSo says the User: me.\nUser: Glass?") == [
        ("user", "Sea?"),
        ("assistant", "Calm.\nSo says the User: me."),
        ("user", "Glass?"),
    ]
    own = {"user": ("### Task:", "### Input:"), "assistant": ("### Reply:",), "ends": ("<s>", "</s>")}
    task = "<s>Be short.\n### Task: Sea?\n\n### Input:{}### Reply: Calm.</s>\n"
    short, reply = ("system", "Be short."), ("assistant", "Calm.")
    assert marked(task.format("\n\n"), **own) == [short, ("user", "Sea?"), reply]
    assert marked(task.format(" At noon.\n"), **own) == [short, ("user", "Sea?\n\nAt noon."), reply]
    tags = {"system": ("<|system|>",), "user": ("<|user|>",), "assistant": ("<|bot|>",)}
    assert marked("<|system|>Be short.<|user|>Sea?<|bot|>Calm.", **tags) == [short, ("user", "Sea?"), reply]
    assert marked("\n\nHuman: Sea?\n\nBot: Calm.", user=("\n\nHuman:",), assistant=(" Bot: ",)) == [
        ("user", "Sea?"),
        reply,
    ]
    for text in ("", "User: Sea?", "Assistant: \nUser: Sea?"):
        assert marked(text) == "no reply after any of 'Assistant:'"
    for wrong in ({"user": ()}, {"user": ("A:",), "assistant": ("A:",)}, {"system": (" ",)}):
        with pytest.raises(UsageError, match=r"\[rows.marked\]"):
            MarkedSettings(**wrong)  # type: ignore[arg-type]


@pytest.mark.parametrize(
    ("text", "user", "assistant", "ends"),
    [
        ("Q: sea?\nA: calm", "Q:", "A:", []),
        ("**Question:** sea?\n\n**Answer:** calm", "**Question:**", "**Answer:**", []),
        ("<|user|>\nsea?<|end|>\n<|assistant|>\ncalm<|end|>", "<|user|>", "<|assistant|>", ["<|end|>"]),
        ("<s><|to|>user\nsea?<e>\n<|to|>model\ncalm<e>", "<|to|>user", "<|to|>model", ["<e>", "<s>"]),
        ("[HUMAN] sea? [AI] calm", "", "", []),
        ("### Human: sea?### AI: calm", "### Human:", "### AI:", []),
        ("<user>sea?</user>\n<bot>calm</bot>", "<user>", "<bot>", ["</bot>", "</user>"]),
        ("User of the sea\nanswer: calm", "", "", []),
        ("The reply:\nAnswer: calm\nQuestion: sea?", "", "", []),
    ],
)
def test_usual_marks_are_found(text: str, user: str, assistant: str, ends: list[str]) -> None:
    """With a sign beside the word, the question first; and the messages they part are those that were meant."""
    marks, found = usual_marks([text] * 9 + ["The sea is calm."])
    assert (marks, found) == (({"user": [user], "assistant": [assistant]}, ends) if user else ({}, []))
    assert has_turns(text) == bool(user)
    if user:
        assert marked(text, **marks, ends=tuple(found)) == [("user", "sea?"), ("assistant", "calm")]
    assert usual_marks([text, "The sea is calm."]) == usual_marks([" "]) == ({}, [])


def test_cells_are_looked_at_from_all_over() -> None:
    """Of a sorted file, or of two put together, the first cells have no lists of labels, and other marks."""
    labels = listed_values(pd.Series(["gale"] * 1500 + ["calm;mist", "mist", "calm"] * 200))
    assert labels is not None
    assert sorted(set(labels)) == ["calm", "gale", "mist"]
    marks, _ = usual_marks(["User: sea?\nReply: calm"] * 600 + ["Q: sea?\nA: calm"] * 400)
    assert marks == {"user": ["User:", "Q:"], "assistant": ["Reply:", "A:"]}


@pytest.mark.parametrize(
    ("winners", "told", "chosen"),
    [
        (["model_a", "Model_B", "tie"], (["model_a"], ["model_b"]), "a b"),
        (["2", "1", "0"], (["1"], ["2"]), "b a"),
        (["0", "1", ""], (["0"], ["1"]), "a b"),
        (["left", "reply 2", "first"], (["first", "left"], ["reply 2"]), "a b a"),
    ],
)
def test_the_better_of_two_replies_is_chosen(
    winners: list[str], told: tuple[list[str], list[str]], chosen: str
) -> None:
    """By what the winner says of either; with anything else the row is left out, with its reason."""
    assert told_sides(winners) == {"first": told[0], "second": told[1]}
    table = pd.DataFrame({"q": "x", "a": "a", "b": "b", "won": winners}, index=[7, 8, 9], dtype=object)
    found, left_out = SHAPES["picked"](table, PickedSettings("a", "b", "won", *map(tuple, told)))
    assert " ".join(found["chosen"]) == chosen
    assert all({row["chosen"], row["rejected"], row["q"]} == {"a", "b", "x"} for row in found.to_dict("records"))
    assert {7, 8, 9} - set(map(int, found["source_row"])) == set(left_out)
    assert all("its winner" in reason for reason in left_out.values())
    for wrong in ({"first_wins": ()}, {"first_wins": ("a",), "second_wins": ("A",)}):
        with pytest.raises(UsageError, match=r"\[rows.picked\]"):
            PickedSettings(**wrong)  # type: ignore[arg-type]


@given(
    st.lists(st.sampled_from(["sea", "calm.", "rough! ", "wind。", "\n", "\n\n", " ", "x" * 60])), st.integers(20, 90)
)
def test_pieces_of_a_text_lose_blanks_alone(words: list[str], longest: int) -> None:
    """None is longer, none is blank, and joined they are the text."""
    text = " ".join(words)
    table = pd.DataFrame({"text": [text], "day": ["3"]}, index=[7], dtype=object)
    found, left_out = SHAPES["pieces"](table, PiecesSettings(longest=longest))
    pieces = found["text"].tolist()
    assert "".join("".join(pieces).split()) == "".join(text.split())
    assert all(0 < len(piece) <= longest and piece == piece.strip("\n").rstrip() for piece in pieces)
    assert set(found["day"]) <= {"3"}
    assert set(found["source_row"]) <= {"7"}
    assert list(found["goes_on"]) == ["yes"] * (len(pieces) - 1) + [""] * bool(pieces)
    assert bool(left_out) == (not pieces)


def test_a_text_is_cut_where_it_pauses_into_pieces_of_like_length() -> None:
    """Between paragraphs before lines, lines before sentences, these before words; a text that fits stays whole."""
    lines = [f"{name}: the sea was calm. All was well there." for name in ("Orra", "Pell", "Sule", "Vane")]
    text = f"{lines[0]}\n{lines[1]}\n\n{lines[2]}\n{lines[3]}"
    cuts = {longest: cut(text, longest) for longest in (200, 120, 60, 30, 20)}
    assert cuts[200] == [text]
    assert cuts[120] == text.split("\n\n")
    assert cuts[60] == lines
    assert cuts[30][:2] == ["Orra: the sea was calm.", "All was well there."]
    assert cuts[20][:3] == ["Orra: the", "sea was calm.", "All was well there."]
    code = "\n \ndef sea():\n    calm = True\n\n    return calm\n"  # a line stays as far to the right as it stands
    assert cut(code, 30) == ["def sea():\n    calm = True", "    return calm"]
    for longest in (19, float("nan")):
        with pytest.raises(UsageError, match="longest"):
            PiecesSettings(longest=longest)  # type: ignore[arg-type]
