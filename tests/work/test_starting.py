"""Starter sheets run as they are, for every kind of rows."""

from __future__ import annotations

import json
import shutil
from collections.abc import Callable
from pathlib import Path
from typing import Any

import pandas as pd
import pytest

import foldkit
from foldkit.datasets.placing import PARTS
from foldkit.formats import FoldKitError, InputError, UsageError
from foldkit.rows import belonging, guess
from foldkit.rows.tables import rows_of
from foldkit.templates import Turn
from foldkit.work import open_asked_base
from foldkit.work.inputs import open_inputs

from ..conftest import CHAT

WORDS = ("calm", "slight", "moderate", "rough")
TALK = [{"role": "user", "content": "sea?"}, {"role": "assistant", "content": "calm"}]


def rows(**cells: Any) -> list[dict[str, Any]]:
    return [{name: value(i) if callable(value) else value for name, value in cells.items()} for i in range(40)]


KINDS = {
    "question": rows(Prompt=lambda i: f"sea {i}?", Completion=lambda i: WORDS[i % 4]),
    "in letters question": rows(q=lambda i: f"sea {i}?", a=lambda i: WORDS[i % 4]),
    "instruction": rows(instruction="Say it short.", input=lambda i: f"sea {i}", output=lambda i: WORDS[i % 4]),
    "with what was said before instruction": rows(
        instruction=lambda i: f"sea {i}?",
        input="",
        output=lambda i: WORDS[i % 4],
        history=lambda i: [["sea?", "calm"]] * (i % 3),
    ),
    "history of another kind question": rows(prompt=lambda i: f"sea {i}?", answer=str, history="a long one"),
    "conversation": rows(messages=lambda i: [*TALK, {"role": "user", "content": str(i)}, TALK[1]]),
    "with a list in one cell question": rows(
        question=lambda i: f"sea {i}?" if i else '[{"sea": 0}] what is that?', answer=lambda i: WORDS[i % 4]
    ),
    "text continued": rows(
        prompt=lambda i: [{"role": "user", "content": f"sea {i}?"}], completion=lambda i: WORDS[i % 4]
    ),
    "conversation continued": rows(
        system="Be short.",
        question=lambda i: [{"from": "skipper", "value": f"sea {i}?"}],
        answer=lambda i: [{"from": name, "value": WORDS[i % 4]} for name in ("desk", "skipper", "desk")],
    ),
    "preference": rows(prompt=lambda i: f"sea {i}?", chosen=lambda i: WORDS[i % 4], rejected="no idea"),
    "compared": rows(
        prompt=lambda i: [{"role": "user", "content": f"sea {i}?"}],
        chosen=lambda i: [{"role": "assistant", "content": WORDS[i % 4]}],
        rejected=[{"role": "assistant", "content": "no idea"}],
    ),
    "replies alone compared": rows(
        chosen=lambda i: [{"from": "human", "value": f"sea {i}?"}, {"from": "bot", "value": WORDS[i % 4]}],
        rejected=lambda i: [{"from": "human", "value": f"sea {i}?"}, {"from": "bot", "value": "no idea"}],
    ),
    "better and worse preference": rows(
        question=lambda i: f"sea {i}?",
        score_good=lambda i: 5,
        answer_good=lambda i: WORDS[i % 4],
        answer_bad=lambda i: f"not {i}",
    ),
    "good and bad votes question": rows(
        question=lambda i: f"sea {i}?",
        answer=lambda i: WORDS[i % 4],
        good_votes=lambda i: i,
        is_bad=lambda i: i % 2 == 0,
    ),
    "with marks and ends compared": rows(
        chosen=lambda i: f"\n\nHuman: sea {i}?\n\nAssistant: Well?</s>\n\nHuman: How?\n\nAssistant: {WORDS[i % 4]}</s>",
        rejected=lambda i: f"\n\nHuman: sea {i}?\n\nAssistant: Well?</s>\n\nHuman: How?\n\nAssistant: no idea</s>",
    ),
    "marks before compared": rows(
        prompt=lambda i: f"Human: sea {i}?\n\nAssistant:", chosen=lambda i: WORDS[i % 4], rejected="no idea"
    ),
    "picked": rows(
        question=lambda i: f"sea {i}?",
        answer_a=lambda i: WORDS[i % 4],
        answer_b=lambda i: f"not {i}",
        label=lambda i: i % 2,
    ),
    "conversations picked": rows(
        conversation_a=lambda i: [{"role": "user", "content": f"sea {i}?"}, TALK[1]],
        conversation_b=lambda i: [{"role": "user", "content": f"sea {i}?"}, {"role": "assistant", "content": "no"}],
        winner=lambda i: ("model_a", "model_b")[i % 2],
    ),
    "in lists graded": rows(
        question=lambda i: f"sea {i}?", system="Be short.", answers=lambda i: [WORDS[i % 4], f"not {i}"], ranks=[1, 2]
    ),
    "in objects graded": rows(
        instruction=lambda i: f"sea {i}?",
        completions=lambda i: [{"response": WORDS[i % 4], "rating": 4}, {"response": f"not {i}", "rating": 2}],
        rank=3,
    ),
    "conversations graded": rows(
        prompt=lambda i: [{"role": "user", "content": f"sea {i}?"}], replies=["calm", "no"], scores=[0.5, 0.25]
    ),
    "answers without grades question": rows(
        question=lambda i: f"sea {i}?", answers=lambda i: [f"Sea {i}.", f"At {i}."], score=3
    ),
    "without a winner question": rows(
        prompt=lambda i: f"the sea {i}?",
        reply_1=lambda i: f"it is {i}, I say",
        answer=lambda i: f"it is {i}",
        winner="he",
    ),
    "label": rows(sentence=lambda i: f"the sea at hour {i}", intent=lambda i: WORDS[i % 4]),
    "with notes text": rows(text=lambda i: f"the sea at hour {i}", tags=lambda i: [f"hour {i}"]),
    "two texts label": rows(
        premise=lambda i: f"the sea at hour {i}", hypothesis=lambda i: f"it is {WORDS[i % 4]}", label=lambda i: i % 3
    ),
    "choices": rows(question=lambda i: f"the sea at hour {i}?", options=list(WORDS), answer=lambda i: i % 4),
    "counted from one choices": rows(
        prompt=str, choices={"text": list(WORDS), "n": list("1234")}, label=lambda i: i % 4 + 1
    ),
    "a column each choices": rows(
        Question=str, A="calm", B="slight", C=lambda i: "rough" * (i % 2), Answer="b", Why="so"
    ),
    "columns of a letter question": rows(
        question=lambda i: f"sea {i}?", a="calm", b="rough", answer=lambda i: f"Sea {i}."
    ),
    "named choices and none question": rows(
        prompt=lambda i: f"sea {i}?", options={"n": 1}, answer=lambda i: f"Sea {i}."
    ),
    "a list of answers question": rows(
        question=lambda i: f"sea {i}?", answers=lambda i: {"text": [f"Sea {i}."], "at": [0]}
    ),
    "several label": rows(
        text=lambda i: f"sea and swell of hour {i}", labels=lambda i: [WORDS[i % 4], WORDS[i // 4 % 4]]
    ),
    "several question": rows(question=lambda i: f"sea {i}?", answer=lambda i: f"{WORDS[i % 4]}; {WORDS[i // 4 % 4]}"),
    "in objects label": rows(data=lambda i: {"text": f"the sea at hour {i}", "label": WORDS[i % 4]}),
    "in objects guessed question": rows(
        said={"no": 1}, pair=lambda i: {"pel": f"the sea at hour {i}", "eng": f"{i} " * 9}
    ),
    "roles conversation": rows(
        talk=1,
        messages=lambda i: [{"role": "keeper", "content": f"sea {i}?"}, {"role": "desk", "content": WORDS[i % 4]}],
    ),
    "texts in turn conversation": rows(dialog=lambda i: [f"sea {i}?", WORDS[i % 4], "sure?", "yes"]),
    "marked": rows(
        text=lambda i: f"<s>Be short.\n### Question: sea {i}?\n### Input:\n\n### Reply: {WORDS[i % 4]}.</s>"
    ),
    "guessed marked": rows(talk=lambda i: f"Human: how is the sea at {i}?\nBot: {WORDS[i % 4]}", day=7),
    "by writers text": rows(user=lambda i: f"keeper {i % 3}", text=lambda i: f"The sea is {WORDS[i % 4]} at {i}."),
    "answered guessed question": rows(
        subject=lambda i: f"on day {i}",
        body=lambda i: f"The sea at {i}, please?",
        agent=lambda i: f"It was {i} at noon.",
    ),
    "with a title text": rows(title=lambda i: f"on day {i}", text=lambda i: f"The sea at {i} was calm, they said."),
    "with stars label": rows(review=lambda i: f"the lamp of day {i}", kept=lambda i: i % 2, stars=lambda i: i % 5),
    "text": rows(text=lambda i: f"The sea is {WORDS[i % 4]} today, says the keeper, for the {i}th time."),
    "transcript": rows(
        who=lambda i: ("Low Pell", "desk")[i % 2], said=lambda i: f"sea {i}", time=lambda i: (i // 2) * 2000
    ),
    "grouped": rows(label=lambda i: WORDS[i % 4], texts=lambda i: [f"sea {i}", f"sea {i} now"]),
    "guessed ticked": rows(
        seen=lambda i: f"the sea at hour {i}",
        fog=lambda i: i % 2,
        gale=lambda i: i % 3 == 0,
        ice=0,
        keeper=lambda i: "ab"[i % 2],
    ),
    "of one label guessed ticked": rows(
        text=lambda i: f"the sea at hour {i}", fog=lambda i: i % 2, ice=lambda i: 1 - i % 2
    ),
    "guessed label": rows(sighted=lambda i: f"the sea at hour {i} was seen", hour=str, state=lambda i: WORDS[i % 4]),
    "guessed question": rows(
        nr=str, note=lambda i: f"the sea at hour {i} was seen", bulletin=lambda i: f"Sea {WORDS[i % 4]} {i}."
    ),
    "two of a name question": rows(
        question=lambda i: f"day {i // 2}", Question=lambda i: f"sea {i}?", answer=lambda i: f"Sea {i}."
    ),
}


@pytest.mark.parametrize("kind", KINDS)
def test_a_starter_sheet_runs_as_it_is(tmp_path: Path, kind: str) -> None:
    """Recognised or guessed and said; built and trained without a change."""
    (tmp_path / "r.jsonl").write_text("\n".join(json.dumps(row) for row in KINDS[kind]))
    started = foldkit.start("r.jsonl", tmp_path)
    name, how = kind.rsplit(maxsplit=1)[-1], "guessed" if "guessed" in kind else "recognised"
    assert started.assumed[0].startswith(f"{name} rows, {how}")
    sheet = foldkit.read_sheet(started.sheet, ["train.steps=1", "train.validations=1"])
    counts = foldkit.build(sheet).counts()
    steps = foldkit.read_sheet(started.sheet).train.epochs * counts["train"]["rows"] / sheet.train.batch
    assert 70 < steps < 140
    assert sum(part["rows"] for part in counts.values()) == {"transcript": 20, "grouped": 80}.get(kind, 40)
    assert max(part["longest"] for part in counts.values()) <= sheet.train.window
    assert foldkit.train(sheet).adapter.exists()
    assert not foldkit.build(sheet).set_aside
    several = "several" in kind or kind == "guessed ticked"
    assert ("f1" in sheet.score.measures) == (name in ("label", "grouped", "choices", "ticked") and not several)
    assert ("items" in sheet.score.measures) == several
    assert ('# objective = "odds"' in started.sheet.read_text()) == (name in ("preference", "picked", "compared"))
    assert (sheet.train.objective == "odds") == ("ranked" in sheet.score.measures) == (name == "graded")
    assert ('ends = ["</s>"]\n' in started.sheet.read_text()) == ("and ends" in kind)
    assert ('markup = "plain"' in started.sheet.read_text()) == (name == "text")
    assert ('each = "history"' in started.template.read_text()) == ("before instruction" in kind)
    if "two of" in kind:
        assert sheet.rows.columns == {"question": "Question", "other_question": "question"}
        assert '# group = "other_question" ' in started.sheet.read_text()
    with pytest.raises(UsageError, match="a name not taken"):
        foldkit.start("r.jsonl", tmp_path)


@pytest.mark.parametrize(
    ("kind", "learned"),
    [("text continued", [False, True]), ("conversation continued", [False, False, True, False, True])],
)
def test_what_goes_on_after_a_prompt_of_messages_is_learned(tmp_path: Path, kind: str, learned: list[bool]) -> None:
    """Every reply of it, none of the prompt; a question by itself is asked as if nothing had been said before."""
    (tmp_path / "r.jsonl").write_text("\n".join(json.dumps(row) for row in KINDS[kind]))
    sheet = foldkit.read_sheet(foldkit.start("r.jsonl", tmp_path).sheet)
    inputs = open_inputs(sheet)
    _, row = rows_of(inputs.table)[0]
    assert [turn.learned for turn in inputs.template.turns(row)] == learned
    asked = open_asked_base(sheet)
    prompt = asked.answerer.prompt_ids(asked.row("sea 3?", {}))
    assert prompt == asked.answerer.encoder.prompt([Turn("user", "sea 3?")])


def test_long_texts_are_cut_in_pieces_and_other_long_rows_are_told(tmp_path: Path) -> None:
    """The pieces of a text stay in one part and fit the window; nothing is asked of texts, so no answer is scored."""
    hours = " ".join(f"At hour {hour} the sea was {WORDS[hour % 4]}, says the keeper." for hour in range(200))
    (tmp_path / "t.jsonl").write_text("".join(json.dumps({"body": f"Week {i}. {hours}"}) + "\n" for i in range(12)))
    (tmp_path / "q.jsonl").write_text(json.dumps({"question": f"{hours}?", "answer": "calm"}))
    started = foldkit.start("t.jsonl", tmp_path)
    assert "12 of 12 examples have over 2,048 tokens" in started.assumed[1]
    sheet = foldkit.read_sheet(started.sheet)
    assert (sheet.rows.columns, sheet.split.group, sheet.score.measures) == ({"text": "body"}, "source_row", ("loss",))
    dataset = foldkit.build(sheet)
    counts = dataset.counts()
    assert not dataset.set_aside
    inputs = open_inputs(sheet)
    last = inputs.table["goes_on"] == ""
    assert last.sum() == 12
    ends = {one.row: one.ids[-1] in inputs.coder.encoder.end_ids for part in dataset.parts.values() for one in part}
    assert ends == last.to_dict()
    assert max(part["longest"] for part in counts.values()) <= sheet.train.window == 512
    assert len({part["rows"] for part in (counts["validation"], counts["test"])}) == 1  # a text each
    told = foldkit.start("../q.jsonl", tmp_path / "q").assumed[1]
    assert told.startswith("1 of 1 examples have over 2,048 tokens")
    assert "shorten them" in told


def test_rows_are_looked_at_from_all_over_the_file(tmp_path: Path) -> None:
    """Of several thousand the last are the long ones, as in a file that is sorted: the window is for them too."""
    asked = [f"What of the sea at hour {n}?" + " And of the wind?" * (30 if n >= 2500 else 0) for n in range(3000)]
    lines = (json.dumps({"question": one, "answer": f"Calm at {n}."}) for n, one in enumerate(asked))
    (tmp_path / "q.jsonl").write_text("\n".join(lines))
    started = foldkit.start("q.jsonl", tmp_path)
    assert any(said.startswith("the longest of 2,000 examples from all over the file") for said in started.assumed)
    assert not foldkit.build(foldkit.read_sheet(started.sheet)).set_aside


@pytest.mark.parametrize(
    "markup", ["{% for m in messages %}{{ m.content }}\n{% endfor %}", "{{ messages[0].content | upper }}"]
)
def test_rows_that_the_markup_of_a_base_does_not_take_stand_under_headings(
    base_folder: Path, tmp_path: Path, markup: str
) -> None:
    """One without an end, and one without the reply: the sheet runs as it is, and says why."""
    shutil.copytree(base_folder, tmp_path / "base")
    (tmp_path / "base" / "chat_template.jinja").write_text(markup)
    (tmp_path / "r.jsonl").write_text("\n".join(json.dumps(row) for row in KINDS["question"]))
    started = foldkit.start("r.jsonl", tmp_path, "base")
    assert any(
        "under headings, for the base's own markup is of no use here: expected" in one for one in started.assumed
    )
    sheet = foldkit.read_sheet(started.sheet)
    assert (sheet.base.markup, len(foldkit.build(sheet).set_aside)) == ("headings", 0)


def test_rows_that_cannot_be_used_are_told_where_others_can(base_folder: Path, tmp_path: Path) -> None:
    """Those with a text that the markup refuses."""
    shutil.copytree(base_folder, tmp_path / "base")
    refusing = "{% if 'short' in messages[0].content %}{{ raise_exception('Too short.') }}{% endif %}"
    (tmp_path / "base" / "chat_template.jinja").write_text(refusing + CHAT)
    told = [row | {"system": "Be short." if n % 4 else ""} for n, row in enumerate(KINDS["question"])]
    (tmp_path / "r.jsonl").write_text("\n".join(map(json.dumps, told)))
    (said,) = [one for one in foldkit.start("r.jsonl", tmp_path, "base").assumed if "cannot be used" in one]
    assert said.startswith("30 of 40 rows cannot be used, row 2 for one: ")
    assert "Too short." in said


APART, TOO_FEW = (
    "examples of one talk stay in one part",
    "there are too few talks to part them, 1: the last ones are the test part",
)


@pytest.mark.parametrize(
    ("silence", "pause", "gap", "parted"),
    [(3600, 9, 1800, APART), (200, 9, 120, APART), (9, 9, 1800, TOO_FEW), (7200, 7200, 0, TOO_FEW)],
)
def test_talks_are_told_apart_by_silences(tmp_path: Path, silence: int, pause: int, gap: int, parted: str) -> None:
    """Of hours, of minutes, of none, or where hours pass before every word; without talks test is what came last."""
    said = [
        {"sender": ("Low Pell", "desk")[i % 2], "message": f"sea {i}", "time": i // 4 * silence + i % 4 * pause}
        for i in range(200)
    ]
    (tmp_path / "r.jsonl").write_text("\n".join(map(json.dumps, said)))
    started = foldkit.start("r.jsonl", tmp_path)
    sheet = foldkit.read_sheet(started.sheet)
    assert sheet.rows.transcript is not None
    assert sheet.rows.transcript.gap == gap
    assert parted in started.assumed
    parts = foldkit.build(sheet).parts
    assert sum(map(len, parts.values())) == 100
    if parted == TOO_FEW:
        assert max(parts["train"].rows) < min(parts["validation"].rows) < min(parts["test"].rows)


@pytest.mark.parametrize(("form", "gap"), [("[{:02}:{:02}:00]", 1800), ("on day {} at {}:", 0)])
def test_a_text_of_who_said_what_is_a_transcript(tmp_path: Path, form: str, gap: int) -> None:
    """With clocks for its silences; other times are no hindrance, and said."""
    lines = [f"{form.format(i // 2, i % 2)} {('Odda', 'desk')[i % 2]}: sea {i}\nand so on" for i in range(60)]
    (tmp_path / "r.txt").write_text("\n".join(lines) if gap else "")
    cells = ({"at": form.format(i, i), "who": ("Odda", "desk")[i % 2], "said": f"sea {i}"} for i in range(60))
    (tmp_path / "r.jsonl").write_text("\n".join(map(json.dumps, cells)))
    started = foldkit.start("r.txt" if gap else "r.jsonl", tmp_path)
    sheet = foldkit.read_sheet(started.sheet)
    assert sheet.rows.transcript is not None
    assert sheet.rows.transcript.gap == gap
    assert ("each line says who speaks" in started.assumed[0]) == bool(gap)
    assert any("times are not read, and no silence ends a talk: row 1" in said for said in started.assumed) != bool(gap)
    assert sum(map(len, foldkit.build(sheet).parts.values())) == 30


def test_flat_messages_of_conversations_are_a_transcript(tmp_path: Path) -> None:
    """Which one is told by a column, and the replies by the role, though another speaks more; times are not asked."""
    lines = ["conversation,role,content,created_at"]
    for talk in range(20):
        for role in ("system", "user", "user", "assistant"):
            lines.append(f"{talk},{role},sea {talk},no time")
    (tmp_path / "r.csv").write_text("\n".join(lines))
    started = foldkit.start("r.csv", tmp_path)
    assert started.assumed[0].startswith("transcript rows, recognised by the names of columns")
    assert "the replies to learn are those of 'assistant', by the name" in started.assumed
    assert sum(map(len, foldkit.build(foldkit.read_sheet(started.sheet)).parts.values())) == 20


@pytest.mark.parametrize(
    ("ids", "parents", "read"),
    [
        (lambda i: i, lambda i: i - 1 if i % 2 else None, "number in column 'id', reply_to in column 'parent_id'"),
        (
            lambda i: i % 4,
            lambda i: i % 4 - 1 if i % 2 else None,
            "reply_to in column 'parent_id', talk in column 'talk'",
        ),
        (lambda i: i % 2, lambda i: 0 if i % 2 else None, "text in column 'text', talk in column 'talk'"),
        (lambda i: i, lambda i: f"c{i}", "text in column 'text', talk in column 'talk'"),
    ],
)
def test_threads_are_told_by_what_messages_answer(tmp_path: Path, ids: Any, parents: Any, read: str) -> None:
    """In all, or in each talk; where that is not what the columns say, the talk alone is read."""
    cells = {"id": ids, "parent_id": parents, "author": lambda i: ("Odda", "desk")[i % 2], "text": str}
    (tmp_path / "r.jsonl").write_text("\n".join(map(json.dumps, rows(**cells, talk=lambda i: i // 4))))
    started = foldkit.start("r.jsonl", tmp_path)
    assert f"{read}; not used:" in started.assumed[0] or started.assumed[0].endswith(read)
    assert sum(map(len, foldkit.build(foldkit.read_sheet(started.sheet)).parts.values())) == 20


@pytest.mark.parametrize(
    "cells",
    [
        {"instruction": lambda i: f"Say {i}.", "output": str},
        {"instruction": lambda i: f"Say {i}.", "input": str, "output": str},
        {"prompt": lambda i: f"Say {i}.", "chosen": str, "rejected": lambda i: f"not {i}"},
        {"prompt": lambda i: "Say", "input": lambda i: f"{i}.", "chosen": str, "rejected": lambda i: f"not {i}"},
    ],
)
def test_a_system_text_of_a_rows_own_is_a_turn(tmp_path: Path, cells: dict[str, Callable[[int], str]]) -> None:
    """Only where the row has one; without such a column the template has none, and an instruction needs no input."""
    for name, own in (("with", {"system_prompt": lambda i: f"You are keeper {i}." * (i % 2)}), ("without", {})):
        (tmp_path / f"{name}.jsonl").write_text("\n".join(json.dumps(row) for row in rows(**cells, **own)))
        started = foldkit.start(f"../{name}.jsonl", tmp_path / name)
        assert ("system in column 'system_prompt'" in started.assumed[0]) == bool(own)
        inputs = open_inputs(foldkit.read_sheet(started.sheet))
        first = [inputs.template.turns(row)[0] for _, row in rows_of(inputs.table.head(2))]
        assert [turn.role for turn in first] == ["user", "system" if own else "user"]
        assert first[1].text == ("You are keeper 1." if own else first[0].text.replace("0", "1"))
        assert ("input" not in cells) or first[0].text in ("Say\n\n0.", "Say 0.\n\n0")


@pytest.mark.parametrize(
    ("tag", "n", "mark"), [("think", 40, "</think>"), ("reasoning", 21, "</reasoning>"), ("b", 40, "")]
)
def test_thoughts_that_most_replies_begin_with_are_not_measured(tmp_path: Path, tag: str, n: int, mark: str) -> None:
    """As the sheet says; what stands in other tags is measured."""
    thoughtful = rows(
        prompt=lambda i: f"sea {i}?", answer=lambda i: f"<{tag}>hm {i}</{tag}> calm {i}" if i < n else "calm"
    )
    (tmp_path / "r.jsonl").write_text("\n".join(json.dumps(row) for row in thoughtful))
    started = foldkit.start("r.jsonl", tmp_path)
    assert foldkit.read_sheet(started.sheet).score.after == mark
    assert any("measured from behind" in one for one in started.assumed) == bool(mark)


def test_a_column_of_grades_or_thoughts_is_told(tmp_path: Path) -> None:
    """For all answers are learned; one of thoughts too, which are not; where there is neither nothing is said."""
    for name, said in (("Rating", 1), ("place", 0), ("liked", 1), ("Reasoning", 0)):
        grade: Callable[[int], Any] = (lambda i: i % 2 == 0) if name == "liked" else (lambda i: i % 5)
        graded = rows(prompt=lambda i: f"sea {i // 2}?", answer=str, **{name: grade})
        (tmp_path / f"{name}.jsonl").write_text("\n".join(json.dumps(row) for row in graded))
        assumed = foldkit.start(f"../{name}.jsonl", tmp_path / name).assumed
        assert sum(f"every answer is learned, whatever {name!r} says" in one for one in assumed) == said
        assert any("'Reasoning' is not learned" in one for one in assumed) == (name == "Reasoning")
        assert "values of 'prompt' stand in several" in assumed[-1]
        assert '# group = "question" ' in (tmp_path / name / "fold.toml").read_text()


@pytest.mark.parametrize(
    ("told", "said"),
    [
        ({"answer": "marks"}, "question rows, as told: question in column 'note', answer in column 'marks'"),
        ({"answer": "sea"}, "label rows, as told: text in column 'note', label in column 'sea'"),
        ({"question": "sea"}, "question rows, as told: question in column 'sea', answer in column 'note'"),
        (
            {"question": "at", "answer": "note"},
            "question rows, as told: question in column 'at', answer in column 'note'",
        ),
        ({"answer": "mark"}, "did you mean 'marks'"),
        ({"question": "note"}, "--answer: expected a column of texts beside"),
        ({}, "text rows, recognised"),
    ],
)
def test_the_question_and_its_answer_can_be_told(tmp_path: Path, told: dict[str, str], said: str) -> None:
    """One or both; the other one is guessed, and what cannot be is refused with the option that tells it."""
    cells = {"at": str, "note" if told else "text": lambda i: f"the sea at hour {i}", "marks": lambda i: [{"from": i}]}
    cells |= {"sea": lambda i: WORDS[i % 4]} if "note" not in told.values() or "at" in told.values() else {}
    (tmp_path / "r.jsonl").write_text("\n".join(json.dumps(row) for row in rows(**cells)))
    if "rows" not in said:
        with pytest.raises(UsageError, match=said):
            foldkit.start("r.jsonl", tmp_path, **told)
        return
    started = foldkit.start("r.jsonl", tmp_path, **told)
    assert started.assumed[0].startswith(said)
    assert ("nothing is asked; --answer names a column" in started.assumed[1]) == (not told)
    assert not foldkit.build(foldkit.read_sheet(started.sheet)).set_aside


SEEN = {"seen": lambda i: f"sea {i} at noon"}


@pytest.mark.parametrize(
    ("cells", "kind", "groups"),
    [
        ({"day": lambda i: f"day {i // 4}", **SEEN}, "text", ["day"]),
        ({**SEEN, "talk_id": lambda i: str(i // 2), "n": lambda i: str(i // 2)}, "text", ["talk_id"]),
        ({**SEEN, "ok": lambda i: str(i % 2), "kind": lambda i: "ab"[i % 2], "n": lambda i: str(i % 2)}, "label", []),
        ({**SEEN, "ok": lambda i: str(i % 2), "n": str}, "label", []),
        ({"n": lambda i: f"{i}.123456789", "tags": lambda i: f'["a number", {i}]'}, None, []),
        ({"at": lambda i: f"{i % 28 + 1} March 2031 at 18:{i:02}", "file": lambda i: f"log/{i:08}.txt"}, None, []),
        ({**SEEN, "met": lambda i: f"{WORDS[i % 4]}, {WORDS[i // 4 % 4]}"}, "label seen met", []),
        ({**SEEN, "met": lambda i: f"{WORDS[i % 4]}, hour {i}"}, "question", []),
        ({**SEEN, "call": lambda i: WORDS[i % 4], "annotator_name": lambda i: "ab"[i % 2]}, "label seen call", []),
        ({**SEEN, "height": lambda i: f"{i / 4:g}"}, "question seen height", []),
        ({**SEEN, "height": lambda i: f"{i / 4:g}", "n": str}, "text", []),
        ({**SEEN, "height": lambda i: f"{i % 4},{i // 4 % 4}"}, "text", ["height"]),
        ({**SEEN, "tags": lambda i: f"[{WORDS[i % 4]}, {WORDS[i // 4 % 4]}"}, "text", ["tags"]),
        ({"answer": SEEN["seen"]}, "text", []),
        ({"prompt": SEEN["seen"], "replies": lambda i: f'["a", "{i}"]'}, None, []),
        (
            {"question1": SEEN["seen"], "question2": lambda i: f"{i} on a longer word", "same": lambda i: str(i % 2)},
            "label question1 question2 same",
            [],
        ),
        (
            {"first_day": SEEN["seen"], "second_day": lambda i: f"{i} on a longer word", "same": lambda i: str(i % 2)},
            "label first_day second_day same",
            [],
        ),
        ({"day_1": SEEN["seen"], "day_2": lambda i: f"{i} on a longer word"}, "question day_1 day_2", []),
        ({**SEEN, "reply": str, "said": lambda i: f"a longer word on hour {i}"}, "question said reply", []),
        ({"said": lambda i: f"a longer word on hour {i}", "question": SEEN["seen"]}, "question question said", []),
        ({"user": lambda i: WORDS[i % 4], **SEEN, "said": lambda i: f"it was {i}"}, "question seen said", []),
        ({"title": SEEN["seen"], **SEEN, "class": lambda i: "ab"[i % 2]}, "label title class", []),
    ],
)
def test_kinds_and_groups_are_guessed_from_cells(cells: dict[str, Any], kind: str | None, groups: list[str]) -> None:
    """Few values are labels of a text, words before numbers, lists of few too; usual names before lengths.

    Times and codes are no text. Rows of one value are a group, but of no number.
    """
    table = pd.DataFrame(rows(**cells))
    found = guess(table)
    said = f"{found.name} {' '.join(found.columns.values())}" if found else ""
    assert said.startswith(kind) if kind else not found
    assert belonging(table, [name for name in cells if not found or name not in found.columns.values()]) == groups
    if found and "kind" in cells:
        assert found.columns == {"text": "seen", "label": "kind"}


def test_what_a_row_of_prose_is_is_said(tmp_path: Path) -> None:
    """And can be changed where it stands; the name of the file beside it is nothing to be answered."""
    (tmp_path / "log.txt").write_text("\n\n".join(f"The sea was {WORDS[i % 4]} at {i}.\nSo was I." for i in range(40)))
    started = foldkit.start("log.txt", tmp_path)
    assert started.assumed[0] == "every paragraph is a text by itself; unit in [rows] may be file or heading or line"
    assert not any("--answer" in said for said in started.assumed)
    for unit, n_rows in (("paragraph", 40), ("line", 80)):
        started.sheet.write_text(started.sheet.read_text().replace('unit = "paragraph"', f'unit = "{unit}"'))
        assert len(open_inputs(foldkit.read_sheet(started.sheet)).table) == n_rows


def test_files_of_other_kinds_are_text_or_told(tmp_path: Path) -> None:
    """A folder of code is a text a file, one file of lines a text a line; beside known kinds others are named."""
    (tmp_path / "code").mkdir()
    for i in range(20):
        (tmp_path / "code" / f"{i}.py").write_text(f"def sea():\n    return {i}\n\n\ndef wind():\n    return {i}\n")
    (tmp_path / "code" / "a.bin").write_bytes(b"\0")
    (tmp_path / "code" / "b.bin").write_bytes(b"\xff" * 9)
    (tmp_path / "notes.en").write_text("calm\n" * 30)
    others = "files of other kinds are not read: 2 × .bin"
    for place, source, unit, told in (("a", "../code", "file", others), ("b", "../notes.en", "line", "")):
        started = foldkit.start(source, tmp_path / place)
        assert started.assumed[0] == f"files ending in .{'py' if told else 'en'} are text"
        assert (others in started.assumed) == bool(told)
        rows = foldkit.read_sheet(started.sheet).rows
        assert (rows.as_text, rows.unit) == ((".py",) if told else (".en",), unit)
        assert len(open_inputs(foldkit.read_sheet(started.sheet)).table) == (20 if told else 30)
    (tmp_path / "code" / "README.md").write_text("The sea.\n\nThe wind.")
    told = foldkit.start("../code", tmp_path / "c").assumed[0]
    assert told.startswith("files of other kinds are not read: 20 × .py, 2 × .bin")
    assert told.endswith("a source such as '../code/**/*.py' reads those")
    assert foldkit.read_sheet(foldkit.start("../code/**/*.py", tmp_path / "d").sheet).rows.unit == "file"


@pytest.mark.parametrize(
    ("files", "read"),
    [
        (("train.csv", "valid.csv", "test.csv"), "valid.csv is validation, test.csv is test"),
        (("d/train/a.csv", "d/dev/a.csv", "d/dev/b.csv", "d/test/c.csv"), "dev/* is validation, c.csv is test"),
        (("sea-train-0.csv", "sea-test-0.csv", "sea-test-1.csv", "more.csv"), "sea-test-* is test"),
        (("train [1].csv", "test [1].csv"), "test [[]1].csv is test"),
        (("train.csv", "devices.csv", "test_train.csv"), ""),
        (("sea.csv", "test.csv"), ""),
    ],
)
def test_files_that_are_named_for_parts_are_these(tmp_path: Path, files: tuple[str, ...], read: str) -> None:
    """Or folders; a part that none is named for is drawn from the others; without one for train nothing is told."""
    part, wanted = {"valid": "validation", "dev": "validation", "test": "test"}, list[str]()
    for number, name in enumerate(sorted(files, key=Path)):
        own = pd.DataFrame(rows(question=lambda i, n=number: f"sea {n} {i}?", answer=lambda i: WORDS[i % 4]))
        (tmp_path / "all" / name).parent.mkdir(parents=True, exist_ok=True)
        own.to_csv(tmp_path / "all" / name, index=False)
        wanted += [next((own for word, own in part.items() if word in name), "train")] * len(own)
    said = foldkit.start("../all", tmp_path / "sheet").assumed
    assert [line for line in said if "named for a part" in line] == (
        [f"files that are named for a part are it: {read}"] if read else []
    )
    alone = foldkit.start(f"../all/{files[0]}", tmp_path / "alone").assumed
    assert any("files beside it are named for other parts" in line for line in alone) == (
        bool(read) and "/" not in read
    )
    if read:
        sheet = (tmp_path / "sheet" / "fold.toml").read_text()
        assert [f"\n{part} = " in sheet for part in ("validation", "test")] == [
            part not in wanted for part in PARTS[1:]
        ]
        assert any("every row is by itself" in line for line in said) is ("validation" not in wanted)
        parts = list(foldkit.split(foldkit.read_sheet(tmp_path / "sheet" / "fold.toml")).parts)
        drawn = {"validation"} - set(wanted)
        assert set(zip(wanted, parts, strict=True)) == {(name, name) for name in wanted} | {("train", n) for n in drawn}


def test_a_column_that_says_the_part_is_used(tmp_path: Path) -> None:
    """It is no label; where rows become others that have no such column, it is said that parts are drawn anew."""
    table = pd.DataFrame(rows(text=lambda i: f"the sea of day {i} is {WORDS[i % 4]}", part=lambda i: "test" * (i > 30)))
    table["part"] = table["part"].where(table["part"] != "", "train")
    table.to_csv(tmp_path / "rows.csv", index=False)
    said = foldkit.start("rows.csv", tmp_path).assumed
    assert "column 'part' says which part a row is in: train 31, test 9" in said
    sheet = foldkit.read_sheet(tmp_path / "fold.toml")
    assert sheet.split.column == "part"
    assert foldkit.split(sheet).parts.tolist().index("test") == 31
    for others in (["train", "boat"], ["train", "train"], ["test", "dev"]):
        table.assign(part=others * (len(table) // 2)).to_csv(tmp_path / "others.csv", index=False)
        assert "says which part" not in str(foldkit.start("../others.csv", tmp_path / "-".join(others)).assumed)
    talks = table.assign(speaker=lambda own: [*"ab"] * (len(own) // 2), talk=[n // 4 for n in range(len(table))])
    talks.to_csv(tmp_path / "talks.csv", index=False)
    drawn = "the parts are drawn anew: examples made of several rows have no column of parts"
    assert drawn in foldkit.start("../talks.csv", tmp_path / "talks").assumed


def test_another_delimiter_and_encoding_are_written_down(tmp_path: Path) -> None:
    """The delimiter found in the header and said, the encoding as it is given."""
    lines = ["question;answer", *(f"wie weht es um {i}, Böen?;{i} aus Süd" for i in range(40))]
    (tmp_path / "r.csv").write_bytes("\n".join(lines).encode("cp1252"))
    started = foldkit.start("r.csv", tmp_path, encoding="cp1252")
    assert started.assumed[0] == "cells are parted by ';', as the header has no other"
    sheet = foldkit.read_sheet(started.sheet)
    assert (sheet.rows.delimiter, sheet.rows.encoding) == (";", "cp1252")
    assert sum(part["rows"] for part in foldkit.build(sheet).counts().values()) == 40


@pytest.mark.parametrize("sign", [",", ";"])
@pytest.mark.parametrize("above", [("The desk's notes",), ("The desk's notes{0}{0}", "", "of March{0}{0}")])
def test_lines_above_the_header_are_passed_over(tmp_path: Path, sign: str, above: tuple[str, ...]) -> None:
    """As a table of calculation exports them; that is said, and rows are named by their lines in the file."""
    lines = [*above, "Question{0}Answer{0}", *(f"sea {i}?{{0}}{WORDS[i % 4]}{{0}}x" for i in range(40)), "a{0}b"]
    (tmp_path / "r.csv").write_text("\n".join(line.format(sign) for line in lines))
    with pytest.raises(InputError, match=f"line {len(lines)}.: row: expected 3 cells, found '2 cells'"):
        foldkit.start("r.csv", tmp_path)
    (tmp_path / "r.csv").write_text("\n".join(line.format(sign) for line in lines[:-1]))
    started = foldkit.start("r.csv", tmp_path)
    assert f"the header is line {len(above) + 1}: what stands above it is passed over" in started.assumed
    sheet = foldkit.read_sheet(started.sheet)
    assert (sheet.rows.skip, sheet.rows.delimiter) == (len(above), "" if sign == "," else sign)
    assert sum(part["rows"] for part in foldkit.build(sheet).counts().values()) == 40
    few = ["Question{0}Answer{0}{0}", *(f"sea {i}?{{0}}calm{{0}}x{{0}}y" for i in range(40))]
    (tmp_path / "f.csv").write_text("\n".join(few).format(sign))
    assert "question rows, recognised" in "".join(foldkit.start("../f.csv", tmp_path / "f").assumed)
    ragged = ["text", *(f"The sea, {', '.join(WORDS[: i % 4])}, it was" for i in range(40))]
    (tmp_path / "g.csv").write_text("\n".join(ragged))
    with pytest.raises(InputError, match=r"row 1 \(line 2\): row: expected 1 cells"):
        foldkit.start("../g.csv", tmp_path / "g")
    whole = ["Question{0}Answer", *(f'sea {i}?{{0}}"Well, calm,\nor rough, or so, I,\n say, {i}"' for i in range(200))]
    (tmp_path / "s.csv").write_text("\n".join(whole).format(sign))
    assert not any("above" in said for said in foldkit.start("../s.csv", tmp_path / "s").assumed)


def test_the_key_of_the_rows_is_found_and_written_down(tmp_path: Path) -> None:
    """That of the longest array of objects; in a file whose rows stand under none, or that is one, there is none."""
    values = {"about": {"by": [{"name": "Orra"}]}, "data": {"items": KINDS["label"]}}
    (tmp_path / "r.json").write_text(json.dumps(values))
    started = foldkit.start("r.json", tmp_path)
    rest = "those under about.by, which are fewer, are not read"
    assert started.assumed[0] == f"the rows stand under the key 'data.items'; {rest}"
    assert len(foldkit.build(foldkit.read_sheet(started.sheet)).parts["train"]) == 32
    (tmp_path / "s.json").write_text(json.dumps(KINDS["label"]))
    assert "key" not in foldkit.start("../s.json", tmp_path / "s").sheet.read_text()
    for number, row in enumerate(KINDS["conversation"]):
        (tmp_path / "talks" / str(number)).mkdir(parents=True)
        (tmp_path / "talks" / str(number) / "talk.json").write_text(json.dumps(row, indent=1))
    started = foldkit.start("../talks", tmp_path / "t")
    assert started.assumed[0].startswith("conversation rows, recognised")
    assert sum(part["rows"] for part in foldkit.build(foldkit.read_sheet(started.sheet)).counts().values()) == 40


def test_rows_that_give_no_start_are_refused(tmp_path: Path) -> None:
    """No column of texts; no file; no base; nothing is left behind."""
    (tmp_path / "r.csv").write_text("a,b\n1,2\n3,4\n")
    with pytest.raises(InputError, match="name columns with --question and --answer"):
        foldkit.start("r.csv", tmp_path)
    with pytest.raises(FoldKitError, match=r"none\.csv"):
        foldkit.start("../../none.csv", tmp_path / "new" / "folder")
    (tmp_path / "t.txt").write_bytes("Höhe zehn.".encode("cp1252"))
    with pytest.raises(InputError, match=r"t.txt, line 1: encoding: expected utf-8, found 'byte f6'"):
        foldkit.start("t.txt", tmp_path)
    (tmp_path / "t.txt").rename(tmp_path / "t.txt.gz")
    with pytest.raises(InputError, match=r"t.txt.gz: file: expected a whole file"):
        foldkit.start("t.txt.gz", tmp_path)
    (tmp_path / "q.csv").write_text("question,answer\n" + "how is it?,as it was\n" * 9)
    with pytest.raises(FoldKitError, match="none: base"):
        foldkit.start("q.csv", tmp_path, "none")
    assert sorted(path.name for path in tmp_path.iterdir()) == ["q.csv", "r.csv", "t.txt.gz"]
