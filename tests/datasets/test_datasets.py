"""Splits, building and storing."""

from __future__ import annotations

import dataclasses
import json
import random
from pathlib import Path

import pandas as pd
import pytest

from foldkit.datasets import Pair, SplitSettings, assign_parts, build_dataset, find_leaks, read_built, write_built
from foldkit.formats import InputError, UsageError
from foldkit.templates import Markup, read_template
from foldkit.tokens import Encoder, TextSide, TextTokenizer


def table_of(n: int = 200) -> pd.DataFrame:
    cells = {
        "question": [f"wind {i}?" for i in range(n)],
        "answer": [f"west {i}" for i in range(n)],
        "day": [str(i // 4) for i in range(n)],
        "kind": ["new" if i % 50 == 0 else "known" for i in range(n)],
    }
    return pd.DataFrame(cells, index=pd.RangeIndex(1, n + 1))


def test_a_row_keeps_its_part_when_rows_are_added_or_moved() -> None:
    """The part depends on seed and content alone; another seed gives another split."""
    settings = SplitSettings(0.2, 0.2)
    table = table_of()
    parts = assign_parts(table, settings)
    fewer = assign_parts(table.iloc[50:].sample(frac=1, random_state=1), settings)
    assert (fewer == parts[fewer.index]).all()
    shares = parts.value_counts(normalize=True)
    assert 0.1 < shares["test"] < 0.3
    assert 0.1 < shares["validation"] < 0.3
    assert not (assign_parts(table, SplitSettings(0.2, 0.2, seed=0)) == parts).all()


def test_rows_of_one_group_stay_together() -> None:
    """And without the group they do not: the control."""
    table = table_of()
    together = assign_parts(table, SplitSettings(0.2, 0.2, group="day")).groupby(table["day"]).nunique()
    assert (together == 1).all()
    apart = assign_parts(table, SplitSettings(0.2, 0.2)).groupby(table["day"]).nunique()
    assert (apart > 1).any()


def test_rows_kept_for_test_take_their_group_along() -> None:
    """Every row of a kept-out kind is in test, and nothing of its day in train."""
    table = table_of()
    parts = assign_parts(table, SplitSettings(0.2, 0.2, group="day", test_only={"kind": "new"}))
    days = set(table.loc[table["kind"] == "new", "day"])
    assert (parts[table["day"].isin(days)] == "test").all()
    assert (parts == "train").any()


def test_impossible_splits_are_refused() -> None:
    """An empty part, shares that leave nothing to train, a column that is not there, not-a-number."""
    with pytest.raises(InputError, match="rows in validation: expected at least one"):
        assign_parts(table_of(1), SplitSettings(0.5, 0.0, seed=1))
    with pytest.raises(UsageError, match="leave a share to train"):
        SplitSettings(0.5, 0.5)
    with pytest.raises(InputError, match="did you mean 'day'"):
        assign_parts(table_of(), SplitSettings(group="dai"))
    with pytest.raises(UsageError, match=r"0 to 0\.9"):
        SplitSettings(float("nan"))


def test_leaks_are_found_and_grouping_near_copies_leaves_none() -> None:
    """Planted near copies across a naive split are all found, each with its row; by `near` clusters none remains."""
    rng = random.Random(4)
    words = [f"word{i}" for i in range(400)]
    pairs, copies = {}, {}
    for row in range(1, 301):
        pairs[row] = Pair(" ".join(rng.choices(words, k=20)), " ".join(rng.choices(words, k=8)))
    for row in range(301, 361):
        source = row - 300
        prompt = pairs[source].prompt.split()
        prompt[rng.randrange(20)] = "changed"
        pairs[row], copies[row] = Pair(" ".join(prompt), pairs[source].reply), source
    table = pd.DataFrame({"text": [pair.text for pair in pairs.values()]}, index=pd.Index(list(pairs)))
    naive = assign_parts(table, SplitSettings(0.2, 0.2))
    planted = {
        r
        for row, source in copies.items()
        for r in (row, source)
        if naive[r] != "train" and naive[source if r == row else row] == "train"
    }
    leaks = find_leaks(pairs, naive, 0.8)
    assert len(planted) > 15
    assert {leak.row for leak in leaks} == planted
    assert {leak.what for leak in leaks} == {"near copy"}
    together = assign_parts(table, SplitSettings(0.2, 0.2, group="near", near=0.8), pairs)
    assert find_leaks(pairs, together, 0.8) == []
    assert set(together) == {"train", "validation", "test"}


def test_the_same_text_and_the_same_prompt_are_leaks_too() -> None:
    """Letter case and blanks aside; a text of test alone is none."""
    texts = ["Wind  west", "wind WEST ", "wind west", "other entirely", "something else again"]
    replies = ["W", "w", "sw", "x", "y"]
    pairs = {row: Pair(text, reply) for row, (text, reply) in enumerate(zip(texts, replies, strict=True), 1)}
    parts = pd.Series({1: "train", 2: "test", 3: "validation", 4: "test", 5: "train"})
    found = [(leak.row, leak.part, leak.train_row, leak.what) for leak in find_leaks(pairs, parts, 1.0)]
    assert found == [(2, "test", 1, "text"), (3, "validation", 1, "prompt")]


def test_rows_that_cannot_be_used_are_set_aside_by_name(side: TextSide, tmp_path: Path) -> None:
    """A blank and one over the window: in no part, with the reason; nothing is cut; nothing is lost."""
    table = table_of(60)
    table.loc[3, "answer"] = " "
    table.loc[9, "question"] = "wind " * 100
    template = read_template("question", tmp_path)
    dataset = build_dataset(table, template, Encoder(side, side.markup()), SplitSettings(0.2, 0.2), 60)
    reasons = {row.row: row.reason for row in dataset.set_aside}
    assert reasons[3] == "blank: answer"
    assert reasons[9].endswith("tokens, the window is 60")
    assert len(reasons) == 2
    rows = sorted(example.row for part in dataset.parts.values() for example in part)
    assert rows == [row for row in range(1, 61) if row not in reasons]
    assert max(n["longest"] for n in dataset.counts().values()) <= 60
    with pytest.raises(InputError, match="template 'question'"):
        build_dataset(
            table.rename(columns={"answer": "reply"}), template, Encoder(side, side.markup()), SplitSettings(), 60
        )


def test_broken_conversations_are_set_aside(side: TextSide, tmp_path: Path) -> None:
    """A message without a role, a conversation without a reply, an empty reply; the others are learned."""
    good = [{"role": "user", "content": "a"}, {"role": "assistant", "content": "b"}]
    talks = [good] * 5 + [[{"role": "x"}], good[:1], [good[0], {"role": "assistant", "content": " "}]]
    table = pd.DataFrame({"messages": [json.dumps(talk) for talk in talks]}, index=pd.RangeIndex(1, 9))
    encoder = Encoder(side, side.markup())
    dataset = build_dataset(table, read_template("conversation", tmp_path), encoder, SplitSettings(0, 0), 60)
    reasons = {row.row: row.reason for row in dataset.set_aside}
    assert reasons[6].startswith("message 1 has no role")
    assert (reasons[7], reasons[8]) == ("no reply to learn", "an empty reply")
    assert len(dataset.parts["train"]) == 5


def test_what_the_encoding_loses_is_said(side: TextSide, tmp_path: Path, tokenizer_text: str) -> None:
    """A markup whose prompt ends in a blank; a tokenizer that drops accents; neither in the usual way."""
    table, template = table_of(60), read_template("question", tmp_path)
    table.loc[7, "answer"] = "Sølen é"

    def notes(side: TextSide, markup: Markup) -> list[str]:
        dataset = build_dataset(table, template, Encoder(side, markup), SplitSettings(0.2, 0.2), 60)
        return [note for note in dataset.notes if "columns" not in note]

    assert notes(side, side.markup()) == []
    ends = "{% for m in messages %}{{ m.role }}: {{ m.content }}<end>{% endfor %}"
    assert notes(side, Markup(ends)) == ["the prompt ends in a blank in 60 rows, first 1"]
    values = json.loads(tokenizer_text)
    values["normalizer"] = {"type": "Sequence", "normalizers": [{"type": "NFD"}, {"type": "StripAccents"}]}
    lossy = dataclasses.replace(side, tokenizer=TextTokenizer(json.dumps(values), "here"))
    assert notes(lossy, side.markup()) == ["the tokenizer does not give the target back exactly in 1 rows, first 7"]


def test_a_stored_dataset_comes_back_until_its_inputs_change(side: TextSide, tmp_path: Path) -> None:
    """Equal in every part; None for other inputs, for a damaged manifest, and an error for a part that is cut."""
    encoder, template = Encoder(side, side.markup()), read_template("question", tmp_path)
    dataset = build_dataset(table_of(60), template, encoder, SplitSettings(0.2, 0.2), 60)
    folder = tmp_path / "built"
    assert read_built(folder, {"a": 1}) is None
    write_built(dataset, folder, {"a": 1})
    assert read_built(folder, {"a": 1}) == dataset
    assert read_built(folder, {"a": 2}) is None
    lines = (folder / "train.jsonl").read_text().splitlines(keepends=True)
    (folder / "train.jsonl").write_text("".join(lines[:-1]))
    with pytest.raises(InputError, match="build again"):
        read_built(folder, {"a": 1})
    (folder / "manifest.json").write_text("{")
    assert read_built(folder, {"a": 1}) is None
