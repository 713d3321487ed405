"""Splits, building and storing."""

from __future__ import annotations

import dataclasses
import json
import random
from pathlib import Path

import numpy as np
import pandas as pd
import pytest

from foldkit.datasets import (
    Coder,
    Dataset,
    Examples,
    Pair,
    SplitSettings,
    assign_parts,
    build_dataset,
    find_leaks,
    learned_counts,
    padding_share,
    parts_of_keys,
    read_assignment,
    read_built,
    row_keys,
    token_counts,
    write_assignment,
)
from foldkit.datasets.splitting import content_keys
from foldkit.formats import InputError, UsageError, read_jsonl
from foldkit.rows import Rows
from foldkit.rows.near import near_texts
from foldkit.templates import Markup, Template, read_template
from foldkit.tokens import Encoder, TextSide, TextTokenizer
from foldkit.training import longest


def table_of(n: int = 200) -> pd.DataFrame:
    cells = {
        "question": [f"wind {i}?" for i in range(n)],
        "answer": [f"west {i}" for i in range(n)],
        "day": [str(i // 4) for i in range(n)],
        "kind": ["new" if i % 50 == 0 else "known" for i in range(n)],
    }
    return pd.DataFrame(cells, index=pd.RangeIndex(1, n + 1))


def built(table: pd.DataFrame, coder: Coder, split: SplitSettings, folder: Path, size: int = 1000) -> Dataset:
    """Build in pieces of `size` rows, with `size` as what it was built from."""
    pieces = (Rows(table.iloc[start : start + size]) for start in range(0, len(table), size))
    return build_dataset(
        pieces, coder, lambda piece: parts_of_keys(row_keys(piece, split), split), folder, {"size": size}, split
    )


def test_a_row_keeps_its_part_when_rows_are_added_or_moved() -> None:
    """Or columns, which may be blank, or stand elsewhere; another seed gives another split."""
    settings = SplitSettings(0.2, 0.2)
    table = table_of()
    parts = assign_parts(table, settings)
    fewer = assign_parts(table.iloc[50:].sample(frac=1, random_state=1), settings)
    assert (fewer == parts[fewer.index]).all()
    wider = table.assign(context=["spring tide", *[""] * 199])[["context", *reversed(table.columns)]]
    assert (assign_parts(wider, settings)[1:] == parts[1:]).all()
    shares = parts.value_counts(normalize=True)
    assert 0.1 < shares["test"] < 0.3
    assert 0.1 < shares["validation"] < 0.3
    assert not (assign_parts(table, SplitSettings(0.2, 0.2, seed=0)) == parts).all()


def test_rows_of_one_group_stay_together() -> None:
    """And without the group they do not: the control. A group that is larger than a part goes to train."""
    for seed in range(9):
        table = table_of().assign(day=[*["long"] * 120, *map(str, range(80))])
        parts = assign_parts(table, SplitSettings(20, 20, group="day", seed=seed))
        assert parts.value_counts().to_dict() == {"train": 160, "test": 20, "validation": 20}
    with pytest.raises(InputError, match="or change the shares; rows of one 'day' stay in one part"):
        assign_parts(table.assign(day="long"), SplitSettings(20, 20, group="day"))
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
        assign_parts(table_of(1), SplitSettings(0.5, 0.0, seed=3))
    with pytest.raises(UsageError, match="leave a share to train"):
        SplitSettings(0.5, 0.5)
    with pytest.raises(InputError, match="did you mean 'day'"):
        assign_parts(table_of(), SplitSettings(group="dai"))
    with pytest.raises(UsageError, match="test_only: kind: expected a value that rows have, found 'newer'"):
        assign_parts(table_of(), SplitSettings(test_only={"day": "1", "kind": "newer"}))
    for wrong in (float("nan"), 0.95, 1.5, -1):
        with pytest.raises(UsageError, match=r"0 to 0\.9"):
            SplitSettings(wrong)
    with pytest.raises(UsageError, match="balance or time"):
        SplitSettings(balance="a", time="b")
    with pytest.raises(InputError, match="row 1, column question: time"):
        assign_parts(table_of(), SplitSettings(time="question"))


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
    near = near_texts({row: pair.text for row, pair in pairs.items()}, 0.8)
    leaks = find_leaks(pairs, naive, near)
    assert len(planted) > 15
    assert {leak.row for leak in leaks} == planted
    assert {leak.what for leak in leaks} == {"near copy"}
    together = assign_parts(table, SplitSettings(0.2, 0.2, group="near", near=0.8), pairs)
    assert find_leaks(pairs, together, near) == []
    assert set(together) == {"train", "validation", "test"}


def test_the_same_text_and_the_same_prompt_are_leaks_too() -> None:
    """Letter case and blanks aside; a text of test alone is none."""
    texts = ["Wind  west", "wind WEST ", "wind west", "other entirely", "something else again"]
    replies = ["W", "w", "sw", "x", "y"]
    pairs = {row: Pair(text, reply) for row, (text, reply) in enumerate(zip(texts, replies, strict=True), 1)}
    parts = pd.Series({1: "train", 2: "test", 3: "validation", 4: "test", 5: "train"})
    found = [(leak.row, leak.part, leak.train_row, leak.what) for leak in find_leaks(pairs, parts, near_texts({}, 0.8))]
    assert found == [(2, "test", 1, "text"), (3, "validation", 1, "prompt")]


def test_rows_that_cannot_be_used_are_set_aside_by_name(side: TextSide, tmp_path: Path) -> None:
    """A blank and one over the window: in no part, with the reason; nothing is cut; nothing is lost."""
    table = table_of(60)
    table.loc[3, "answer"] = " "
    table.loc[9, "question"] = "wind " * 100
    template = read_template("question", tmp_path)
    encoder = Encoder(side, side.markup())
    dataset = built(table, Coder(template, encoder, 60), SplitSettings(0.2, 0.2), tmp_path)
    reasons = {row.row: row.reason for row in dataset.set_aside}
    assert reasons[3] == "blank: answer"
    assert reasons[9].endswith("tokens, the window is 60")
    assert len(reasons) == 2
    rows = sorted(example.row for part in dataset.parts.values() for example in part)
    assert rows == [row for row in range(1, 61) if row not in reasons]
    assert max(n["longest"] for n in dataset.counts().values()) <= 60
    with pytest.raises(InputError, match="template 'question'"):
        built(table.rename(columns={"answer": "reply"}), Coder(template, encoder, 60), SplitSettings(), tmp_path / "b")
    assert [path.name for path in (tmp_path / "b").iterdir()] == []


def test_rows_outside_train_that_are_rows_of_train_are_noted(side: TextSide, tmp_path: Path) -> None:
    """Their count by part and the first, whatever the pieces; a worse reply is a part of a row; none, no note."""
    table = pd.concat([table_of(60)] * 2, ignore_index=True).assign(worse="x", day=[str(i) for i in range(120)])
    table.index = pd.RangeIndex(1, 121)
    table.loc[61:90, "worse"] = "y"  # of these no row stands twice
    template = read_template("preference", tmp_path)
    table = table.rename(columns={"question": "prompt", "answer": "chosen", "worse": "rejected"})
    coder, split = Coder(template, Encoder(side, side.markup()), 60, paired=True), SplitSettings(0.2, 0.2)
    notes = {tuple(built(table, coder, split, tmp_path / str(size), size).notes) for size in (7, 1000)}
    parts = assign_parts(table, split)
    twins = {row: (row + 59) % 120 + 1 for row in (*range(31, 61), *range(91, 121))}
    again = [row for row, twin in twins.items() if parts[row] != "train" and parts[twin] == "train"]
    told = " and ".join(f"{(parts[again] == part).sum()} of {part}" for part in ("validation", "test"))
    said = f"rows that stand in train too, token by token: {told}, the first row {min(again)}; what is measured"
    assert len(notes) == 1
    assert next(iter(notes))[0].startswith(said)
    assert built(table[:60], coder, split, tmp_path / "once").notes == ()


def test_broken_conversations_are_set_aside(side: TextSide, tmp_path: Path) -> None:
    """A message without a role, a conversation without a reply, an empty reply; the others are learned."""
    good = [{"role": "user", "content": "a"}, {"role": "assistant", "content": "b"}]
    talks = [good] * 5 + [[{"role": "x"}], good[:1], [good[0], {"role": "assistant", "content": " "}]]
    cells = [*map(json.dumps, talks), "[a, b]"]
    table = pd.DataFrame({"messages": cells}, index=pd.RangeIndex(1, 10))
    encoder = Encoder(side, side.markup())
    coder = Coder(read_template("conversation", tmp_path), encoder, 60)
    dataset = built(table, coder, SplitSettings(0, 0), tmp_path)
    reasons = {row.row: row.reason for row in dataset.set_aside}
    assert reasons[6].startswith("message 1 has the role 'x'")
    assert (reasons[7], reasons[8]) == ("no reply to learn", "an empty reply")
    assert reasons[9] == "no list of messages in 'messages'"
    assert len(dataset.parts["train"]) == 5
    for few, said in ((table[5:], "that can be used, found 'none'; 4 are set"), (table[4:6], "shares; 1 is set")):
        with pytest.raises(InputError, match=rf"{said} aside, the first row 6: message 1 has the role 'x'"):
            built(few, coder, SplitSettings(0, 0.5, seed=1), tmp_path)


def test_conversations_that_the_markup_does_not_take_are_set_aside(side: TextSide, tmp_path: Path) -> None:
    """Roles that it refuses, a text that it changes: the others are learned; where it takes none, that is an error."""
    source = (
        "{% for m in messages %}{% if m.role == 'user' and loop.nextitem and loop.nextitem.role == 'user' %}"
        "{{ raise_exception('two questions in a row') }}{% endif %}"
        "<turn>{{ m.role }}\n{{ m.content.split('note:')[-1] }}<end>{% endfor %}"
        "{% if add_generation_prompt %}<turn>assistant\n{% endif %}"
    )
    good = [{"role": "user", "content": "a"}, {"role": "assistant", "content": "b"}]
    talks = [good] * 5 + [[good[0], *good], [good[0], {"role": "assistant", "content": "c note:"}]]
    table = pd.DataFrame({"messages": [json.dumps(talk) for talk in talks]}, index=pd.RangeIndex(1, 8))
    coder = Coder(read_template("conversation", tmp_path), Encoder(side, Markup(source, end_marker="<end>")), 60)
    dataset = built(table, coder, SplitSettings(0, 0), tmp_path, size=6)  # the last piece has no other row
    reasons = {row.row: row.reason for row in dataset.set_aside}
    assert "user, user: two questions in a row'" in reasons[6]
    assert "expected markup that keeps each turn's text" in reasons[7]
    assert len(dataset.parts["train"]) == 5
    with pytest.raises(InputError, match="two questions in a row"):
        built(table.loc[[6]], coder, SplitSettings(0, 0), tmp_path / "none")


def test_what_the_encoding_loses_is_said(side: TextSide, tmp_path: Path, tokenizer_text: str) -> None:
    """A markup whose prompt ends in a blank, or whose replies stand otherwise; a tokenizer that drops accents."""
    table, template = table_of(60), read_template("question", tmp_path)
    table.loc[7, "answer"] = "Sølen é"

    def notes(side: TextSide, markup: Markup, template: Template = template) -> list[str]:
        coder = Coder(template, Encoder(side, markup), 60)
        dataset = built(table, coder, SplitSettings(0.2, 0.2), tmp_path)
        return list(dataset.notes)

    assert notes(side, side.markup()) == []
    ends = "{% for m in messages %}{{ m.role }}: {{ m.content }}<end>{% endfor %}"
    assert notes(side, Markup(ends + "{% if add_generation_prompt %}assistant: {% endif %}")) == [
        "the prompt ends in a blank, so its tokens may differ from those at asking: 60 rows, first 1"
    ]
    twice = dataclasses.replace(template, turn=template.turn * 2)
    assert notes(side, Markup(ends), twice) == [
        "the markup opens replies before the last one otherwise than when they are asked for: 60 rows, first 1"
    ]
    values = json.loads(tokenizer_text)
    values["normalizer"] = {"type": "Sequence", "normalizers": [{"type": "NFD"}, {"type": "StripAccents"}]}
    lossy = dataclasses.replace(side, tokenizer=TextTokenizer(json.dumps(values), "here"))
    assert notes(lossy, side.markup()) == ["the tokenizer does not give the learned text back exactly: 1 row, first 7"]
    table.loc[4, "question"], table.loc[[5, 8], "answer"] = "aside? Fog?", "say: calm"
    thinks = "{% for m in messages %}<turn>{{ m.content.split('? ')[-1] }}<end>{% endfor %}"
    assert notes(side, Markup(thinks + "{% if add_generation_prompt %}<turn>say:\n{% endif %}")) == [
        "the reply begins with what the markup has already opened it with: 2 rows, first 5",
        "the markup leaves out the beginning of a text before the reply: 1 row, first 4",
    ]


def test_a_stored_dataset_comes_back_until_its_inputs_change(
    side: TextSide, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    """None for other inputs, a file or a manifest that is not as it was written, and a build that ends meanwhile."""
    coder = Coder(read_template("question", tmp_path), Encoder(side, side.markup()), 60)
    assert read_built(tmp_path, {"size": 1000}) is None
    dataset = built(table_of(60), coder, SplitSettings(0.2, 0.2), tmp_path)
    again = read_built(tmp_path, {"size": 1000})
    assert again is not None
    assert (again.fingerprint, again.counts(), again.notes) == (dataset.fingerprint, dataset.counts(), dataset.notes)
    assert [list(part) for part in again.parts.values()] == [list(part) for part in dataset.parts.values()]
    assert read_built(tmp_path, {"size": 1}) is None
    for name in ("train.arrow", "set_aside.jsonl", "manifest.json"):
        whole = (tmp_path / name).read_bytes()
        flipped = bytearray(whole or b"{")
        flipped[len(whole) // 2] ^= 1
        for damaged in (whole[:-100] or b" ", (tmp_path / "test.arrow").read_bytes(), bytes(flipped)):
            (tmp_path / name).unlink()
            (tmp_path / name).write_bytes(damaged)
            assert read_built(tmp_path, {"size": 1000}) is None
        (tmp_path / name).unlink()
        assert read_built(tmp_path, {"size": 1000}) is None
        (tmp_path / name).write_bytes(whole)
    kept = (tmp_path / "manifest.json").read_text()

    def end_of_another_build(at: Path) -> list[dict[str, object]]:
        (tmp_path / "manifest.json").write_text("{}")
        return read_jsonl(at)

    with monkeypatch.context() as patched:
        patched.setattr("foldkit.datasets.store.read_jsonl", end_of_another_build)
        assert read_built(tmp_path, {"size": 1000}) is None
    (tmp_path / "manifest.json").write_text(kept)
    assert read_built(tmp_path, {"size": 1000}) is not None


def test_the_size_of_pieces_changes_nothing(side: TextSide, tmp_path: Path) -> None:
    """Same examples, counts and fingerprint; a part on disk is a sequence of what the encoder gives row by row."""
    table, template, encoder = table_of(60), read_template("question", tmp_path), Encoder(side, side.markup())
    coder = Coder(template, encoder, 60)
    whole, pieces = (built(table, coder, SplitSettings(0.2, 0.2), tmp_path / str(n), n) for n in (1000, 7))
    assert (pieces.fingerprint, pieces.counts(), pieces.notes) == (whole.fingerprint, whole.counts(), whole.notes)
    for part, examples in whole.parts.items():
        assert list(pieces.parts[part]) == list(examples) == examples[:]
        assert examples[-1] == examples[len(examples) - 1]
        assert [len(example.ids) for example in examples] == examples.lengths.tolist()
        assert [example.row for example in examples] == examples.rows.tolist()
        assert [example.spans[-1][0] for example in examples] == examples.prompt_lengths.tolist()
        assert [example.n_learned for example in examples] == examples.learned_lengths.tolist()
        for example in examples:
            one = encoder.example(template.turns(table.loc[example.row].to_dict()))
            assert (example.ids, example.spans, example.learned) == (one.ids, one.spans, one.learned)
            assert example.n_learned == sum(one.learned)
        with pytest.raises(IndexError):
            examples[len(examples)]


FILLED = [
    SplitSettings(30, 40),
    SplitSettings(0.15, 0.2, balance="kind"),
    SplitSettings(30, 40, time="day"),
    SplitSettings(28, 40, group="day"),
    SplitSettings(1, 1),
]


@pytest.mark.parametrize("settings", FILLED)
def test_parts_that_are_filled_come_to_their_size_and_keep_it(settings: SplitSettings) -> None:
    """Counts or shares exactly; by balance in every label, by time the newest; old rows stay when new ones come."""
    table = table_of()
    parts = assign_parts(table, settings)
    n_validation, n_test = (1, 1) if settings.test == 1 else (28 if settings.group else 30, 40)
    assert [int((parts == part).sum()) for part in ("validation", "test")] == [n_validation, n_test]
    assert set(parts) == {"train", "validation", "test"}
    if settings.balance:
        shares = pd.crosstab(table["kind"], parts, normalize="index")
        assert (abs(shares["test"] - 0.2) < 0.13).all()
        assert parts[table["kind"] == "new"].value_counts().to_dict() == {"train": 2, "test": 1, "validation": 1}
    if settings.time:
        days = table["day"].astype(int)
        assert days[parts == "test"].min() >= days[parts == "validation"].max()
        assert days[parts == "validation"].min() >= days[parts == "train"].max()
    if settings.group:
        assert (parts.groupby(table["day"]).nunique() == 1).all()
    known = dict(zip(content_keys(table), parts, strict=True))
    more = pd.concat([table_of(300).iloc[200:].rename(lambda row: row - 200), table.rename(lambda row: row + 100)])
    again = assign_parts(more, settings, known=known)
    assert list(again.iloc[100:]) == list(parts)
    assert again.iloc[:100].eq("train").mean() == (0 if settings.time else 1 if settings.test >= 1 else 0.65)
    if settings.time:  # by the days on which the stored parts begin: 32 and 40 of 50
        late = table_of(3).assign(question=["a", "b", "c"], day=["3", "35", "45"]).rename(lambda row: row + 900)
        parts = assign_parts(pd.concat([table, late]), settings, known=known)
        assert parts.iloc[-3:].tolist() == ["train", "validation", "test"]


def test_padding_by_hand() -> None:
    """In arrival order of one piece, and sorted by length into two; none of nothing."""
    assert padding_share(np.array([4, 4, 2, 2]), 4, 4, seed=0) == pytest.approx(1 - 12 / 16)
    assert padding_share(np.array([4, 4, 2, 2]), 4, 2, seed=0) == 0
    assert padding_share(np.array([], dtype=int), 4, 4, seed=0) == 0


def test_tokens_are_counted_by_hand() -> None:
    """Those of every span and of worse replies, and no prompt; the second example has two, side by side."""
    ids, ends = [7, 5, 5, 9, 5, 6, 8, 8, 9, 1], [0, 3, 8, 10]
    of = Examples.of([1, 2, 3], ids, ends, [1, 3, 1, 2, 2, 4, 1, 2], [0, 2, 6, 8], [6, 4], [0, 0, 1, 2])
    assert [values.tolist() for values in of.learned_ids()] == [[1, 4, 5, 6, 8], [1, 1, 3, 2, 1]]
    assert token_counts(of) == token_counts(list(of)) == [3, 6, 3]
    assert learned_counts(of) == learned_counts(list(of)) == [2, 3, 1]
    assert longest(of) == longest(list(of)) == of[1]


def test_files_can_be_a_part(tmp_path: Path) -> None:
    """Rows of the named file, and no others; with nothing from it the part is refused as empty."""
    table, settings = table_of(60), SplitSettings(0.2, 0.2, files={"test": "held.csv"})
    files = [tmp_path / name for name, n in (("a.csv", 40), ("held.csv", 10), ("b.csv", 10)) for _ in range(n)]
    parts = assign_parts(table, settings, files=files)
    assert list(parts.index[parts == "test"]) == list(range(41, 51))
    assert {"train", "validation"} == set(parts.drop(range(41, 51)))
    with pytest.raises(InputError, match="rows in test"):
        assign_parts(table, settings, files=files[:1] * 60)


@pytest.mark.parametrize("others", [{}, {"validation": 6, "balance": "kind"}, {"group": "day"}])
def test_a_column_can_say_the_part_of_each_row(others: dict[str, object]) -> None:
    """As it is, however it is written; a part that it does not name is drawn from train, blank rows are shared out."""
    whole = ["Train", "valid", " TEST ", "training", "dev", "test"] * 10
    table = table_of(60).assign(part=whole)
    settings = SplitSettings(**{"validation": 0.2, "test": 0.2, "column": "part", **others})
    assert list(assign_parts(table, settings)) == ["train", "validation", "test"] * 20
    half = table.assign(part=["train", "", "test"] * 20)
    parts = assign_parts(half, settings)
    told = half["part"] == "test"
    assert ({*parts[told]}, {*parts[~told]}) == ({"test"}, {"train", "validation"})
    if "group" in others:
        assert parts[~told].groupby(table["day"]).nunique().max() == 1
    if others.get("validation") == 6:
        assert (parts == "validation").sum() == 6
    with pytest.raises(
        InputError, match=r"row 1: column 'part', the part: expected train, training, validation.*'hold'"
    ):
        assign_parts(table.assign(part="hold"), settings)
    with pytest.raises(InputError, match=r"\[split\] column: column: expected a column of the rows"):
        assign_parts(table_of(60), settings)
    wrong = {
        "column": {"files": {"test": "a"}, "column": "part"},
        "files": {"files": {"tset": "a"}},
        "near": {"near": 0.2},
    }
    for name, given in wrong.items():
        with pytest.raises(UsageError, match=rf"\[split\]: {name}: "):
            SplitSettings(**given)


def test_a_stored_assignment_is_read_back_for_the_same_settings(tmp_path: Path) -> None:
    """And for no others; near copies of what is known go where that went."""
    settings = SplitSettings(0.2, 0.2, group="near", near=0.5)
    table = table_of(60)
    parts = pd.Series("test", index=table.index)
    assert read_assignment(tmp_path, settings) == {}
    write_assignment(tmp_path, settings, pd.Series(content_keys(table)), parts)
    known = read_assignment(tmp_path, settings)
    assert list(known.values()) == ["test"] * 60
    assert read_assignment(tmp_path, SplitSettings(0.2, 0.2, group="near", near=0.6)) == {}
    words = {i: Pair(f"{i} " * 30, "x") for i in range(1, 61)}
    more = table_of(120)
    pairs = words | {60 + i: words[i] for i in words}
    assert (parts_of_keys(row_keys(more, settings), settings, pairs, known) == "test").all()
    other = words | {60 + i: Pair(f"{-i} " * 30, "y") for i in words}
    assert set(parts_of_keys(row_keys(more, settings), settings, other, known)) == {"test", "train", "validation"}
