"""Scoring as a sheet asks for it: contenders of every kind, answers kept, what is said before and after a training."""

from __future__ import annotations

import json
import re
import shutil
from collections import Counter
from pathlib import Path

import pytest
import torch

import foldkit
from foldkit.answering import NearestShots
from foldkit.datasets import Example
from foldkit.formats import InputError, UsageError
from foldkit.models import Decoder
from foldkit.rows.near import likeness, nearest
from foldkit.runs import RunFolder
from foldkit.scoring import Form
from foldkit.work.contenders import shots_of
from foldkit.work.scoring_setup import ScoringSetup
from foldkit.work.scoring_step import asked_rows

ADDED = """
[score]
measures = ["loss", "bits", "exact", "label", "f1", "similarity"]
own = ["own.py:short"]
reword = ["case", "spelling", "plainer.toml"]
suspects = 3
general = ["general.txt", "sea/fold.toml"]
batch = 4
[score.judge]
function = "own.py:graded"
pairs = true
[score.judge.criteria]
clear = "Is it clear?"
[score.prices]
all = [1.0, 4.0]
[[score.contender]]
name = "two shots"
shots = 2
[[score.contender]]
name = "nearest"
shots = 2
nearest = true
[[score.contender]]
name = "made elsewhere"
answers = "elsewhere.jsonl"
[[score.contender]]
name = "first stage"
adapter = "first"
"""
OWN = """
def short(target, answer, row):
    return float(len(answer) <= len(target) and "wind" in row["question"])

def graded(item):
    if item["task"] == "compare":
        return "first" if len(item["first"]) >= len(item["second"]) else "second"
    return 1 + len(item["answer"]) % 5
"""
PLAINER = """
name = "plainer"
[[turn]]
role = "user"
text = "Say it in a word: {question}"
[[turn]]
role = "assistant"
text = "{answer}"
learned = true
"""
SHORT = ("train.epochs=1", "train.validations=1")


@pytest.fixture
def scored_folder(work_folder: Path) -> Path:
    """Return a folder with two runs, and a sheet with a contender of every kind."""
    sheet = foldkit.read_sheet(work_folder / "fold.toml", SHORT)
    run = foldkit.train(sheet, "first")
    shutil.copytree(run.path, run.path.with_name("second"))
    tests = [example.row for example in foldkit.build(sheet).parts["test"]]
    lines = "".join(json.dumps({"row": row, "answer": "west"}) + "\n" for row in tests)
    (work_folder / "elsewhere.jsonl").write_text(lines)
    (work_folder / "own.py").write_text(OWN)
    (work_folder / "general.txt").write_text("The wind is west and the glass is falling. " * 20)
    (work_folder / "plainer.toml").write_text(PLAINER)
    (work_folder / "sea").mkdir()
    sea = [json.dumps({"question": f"sea {i}?", "answer": "calm" * (i % 2)}) + "\n" for i in range(40)]
    (work_folder / "sea" / "rows.jsonl").write_text("".join(sea))
    (work_folder / "sea" / "fold.toml").write_text((work_folder / "fold.toml").read_text())
    (work_folder / "fold.toml").write_text((work_folder / "fold.toml").read_text() + ADDED)
    return work_folder


def _loss(decoder: Decoder, example: Example) -> float:
    """Return the mean loss of an example's learned tokens, from whole logits."""
    ids = torch.tensor(example.ids)
    with torch.no_grad():
        losses = -decoder.logits(decoder(ids[None]))[0, :-1].log_softmax(-1)[range(len(ids) - 1), ids[1:]]
    return float(torch.cat([losses[start - 1 : end - 1] for start, end in example.spans]).mean())


def test_every_kind_of_contender_is_held_against_the_base_on_the_same_rows(
    scored_folder: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    """Shots, nearest shots, a file, another adapter, the run's; judge, own measure, rewording, prices, texts."""
    monkeypatch.undo()  # with its picture
    sheet = foldkit.read_sheet(scored_folder / "fold.toml")
    run = RunFolder(scored_folder / "runs" / "second")
    heard: list[tuple[str, int, int]] = []
    card = foldkit.score(sheet, run, lambda *told: heard.append(told))
    names = [score.name for score in card.contenders]
    assert names == ["base", "two shots", "nearest", "made elsewhere", "first stage", "adapter"]
    judge = f"judge, about {card.signed['judge']['tokens']:,} tokens"
    again = {f"{name}, {how}" for name in ("adapter", "first stage") for how in ("case and spelling", "plainer.toml")}
    texts = {f"{name}, {text}" for name in ("base", "first stage", "adapter") for text in sheet.score.texts}
    once = {judge, "nearness to train", "copies of test rows in train", "intervals and tests"}
    of_train = {"rows of train that stay hard", "examples for nearest"}
    told = {*names, *again, *texts, *once, *of_train} - {"made elsewhere"}
    assert {name for name, *_ in heard} == told
    n_items = (len(names) + 2 * (len(names) - 1)) * card.n_rows
    of_judge = [told for name, *told in heard if name == judge]
    assert (of_judge[0], of_judge[-1]) == ([0, n_items], [n_items, n_items])
    base, shots, elsewhere, first, own = (card.contenders[index] for index in (0, 1, 3, 4, 5))
    assert shots.prompt_tokens > 2 * base.prompt_tokens
    assert "loss" not in elsewhere.measures
    targets = [row["target"] for row in card.rows]
    assert elsewhere.measures["exact"].value == pytest.approx(targets.count("west") / len(targets))
    assert first.measures["loss"] == own.measures["loss"] != base.measures["loss"]
    assert set(own.general) == {name + end for name in sheet.score.texts for end in ("", ", difference")}
    assert own.general["sea/fold.toml"] != own.general["general.txt"]
    assert not (scored_folder / "sea" / "built").exists()
    n_blank = card.signed["left_out"]["sea/fold.toml"]
    own_base = [f"base.model={scored_folder / 'tiny'}"]
    parts = foldkit.split(foldkit.read_sheet(scored_folder / "sea" / "fold.toml", own_base)).parts
    assert n_blank == sum(1 for row in parts.index[parts == "test"] if row % 2)
    assert f"{n_blank} test rows of sea/fold.toml can't be used" in (run.path / "scorecard.md").read_text()
    assert {"short", "judge clear"} <= set(own.measures)
    assert own.reworded.keys() == {"case and spelling", "plainer.toml"}
    assert own.reworded["plainer.toml"].keys() == own.measures.keys() - {"judge clear"}
    assert own.cost == pytest.approx((own.prompt_tokens + 4 * own.answer_tokens) / 1000)
    asked = foldkit.open_asked(run.adapter)
    train = {one.row: one for one in foldkit.build(sheet).parts["train"]}
    lines = (scored_folder / "rows.jsonl").read_text().splitlines()
    ((commonest, n),) = Counter(json.loads(lines[row - 1])["answer"] for row in train).most_common(1)
    assert (card.floors[0].text, card.floors[0].share) == (commonest, n / len(train))
    assert (card.floors[1].text, card.floors[1].measures["exact"].value) == ("question", 0.0)
    losses = {row: _loss(asked.base.decoder, one) for row, one in train.items()}
    worst = sorted(losses, key=losses.__getitem__, reverse=True)[:3]
    assert [one["row"] for one in card.suspects] == worst
    assert [one["loss"] for one in card.suspects] == pytest.approx([losses[row] for row in worst], rel=1e-4)
    for name, judged in card.signed["judge"]["pairs"].items():
        longer = [
            len(row["contenders"][name]["answer"]) - len(row["contenders"]["base"]["answer"]) for row in card.rows
        ]
        assert judged["words"] == ["win" if n > 0 else "loss" if n < 0 else "disagreed" for n in longer]
        assert judged["disagreed"] == longer.count(0)
    assert card.signed["judge"]["pairs"].keys() == set(names) - {"base"}
    assert card.rows[0]["token_losses"]
    kept = run.read_scorecard()
    assert kept["says"]
    assert run.read_rows() == json.loads(json.dumps(card.rows))
    assert kept["signed"]["version"] == 3
    for name in ("scorecard.md", "scorecard.png", "rows.jsonl", "rows.csv"):
        assert (run.path / name).exists()


def test_answers_are_kept_and_a_stopped_scoring_goes_on(scored_folder: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    """Stopped in the middle, nothing of what was asked is asked again, and the card is that of an unbroken scoring."""
    sheet = foldkit.read_sheet(scored_folder / "fold.toml")
    run = RunFolder(scored_folder / "runs" / "second")

    class Stop(Exception):  # noqa: N818 - it is no error
        """Ends the scoring."""

    def stop(name: str, done: int, total: int) -> None:
        if name == "two shots" and done:
            raise Stop

    with pytest.raises(Stop):
        foldkit.score(sheet, run, stop)
    kept = sorted((scored_folder / "answers").iterdir())
    assert len(kept) == 2
    with kept[0].open("a") as file:
        file.write('{"kept": [[0, {"ans')
    resumed = foldkit.score(sheet, run)
    asked: list[int] = []
    from foldkit.answering import Answerer

    whole = Answerer.answered_and_held

    def counted(self: Answerer, prompts, *more):  # type: ignore[no-untyped-def]
        asked.append(len(prompts))
        return whole(self, prompts, *more)

    monkeypatch.setattr(Answerer, "answered_and_held", counted)
    again = foldkit.score(sheet, run)
    assert asked == []
    shutil.rmtree(scored_folder / "answers")
    fresh = foldkit.score(sheet, run)
    # Base, two with shots, two runs whose adapters are the same bytes, reworded in two ways.
    assert sum(asked) == 6 * fresh.n_rows
    cards = [card.as_mapping() for card in (fresh, resumed, again)]
    judges = [card["signed"]["judge"] for card in cards]
    assert [judge.pop("kept") for judge in judges] == [0, 0, judges[2]["items"]]
    assert [judge.pop("tokens") > 0 for judge in judges] == [True, True, False]
    assert cards[0] == cards[1] == cards[2]
    foldkit.score(foldkit.read_sheet(scored_folder / "fold.toml", ["score.max_tokens=5"]), run)
    assert sum(asked) == 12 * fresh.n_rows
    asked.clear()
    monkeypatch.setattr("foldkit.answering.together.MOST_TOKENS", 300)
    foldkit.score(foldkit.read_sheet(scored_folder / "fold.toml", ["score.max_tokens=100"]), run)
    assert sum(asked) == 6 * fresh.n_rows
    assert max(asked) <= 2  # of more than 100 tokens each
    (scored_folder / "plainer.toml").write_text(PLAINER.replace("{answer}", "It is {answer}"))
    with pytest.raises(InputError, match=r"that of the sheet's own template, '(\w+)', found 'It is \1'"):
        foldkit.score(sheet, run)
    (scored_folder / "plainer.toml").write_text(PLAINER)
    with pytest.raises(InputError, match=r"none\.toml: sheet"):
        foldkit.score(foldkit.read_sheet(scored_folder / "fold.toml", ["score.general=['none.toml']"]), run)
    many = "score.contender=[{name='many', shots=500, nearest=true}]"
    with pytest.raises(
        InputError, match=r"many: shots: expected at most \d+, the rows of train .*, found 500; ask for"
    ):
        foldkit.score(foldkit.read_sheet(scored_folder / "fold.toml", [many]), run)
    (scored_folder / "one.txt").write_text("a")
    with pytest.raises(InputError, match=r"one\.txt: general: expected a text of at least two tokens"):
        foldkit.score(foldkit.read_sheet(scored_folder / "fold.toml", ["score.general=['one.txt']"]), run)
    (scored_folder / "damaged.safetensors").write_bytes(b"x")
    for change, said in (
        (
            "score.contender=[{name='long', shots=26}]",
            r"long, row \d+: expected at most 256 tokens, .* of the prompt and",
        ),
        ("score.contender=[{name='file', answers='none.jsonl'}]", "none.jsonl"),
        ("score.contender=[{name='other', adapter='damaged.safetensors'}]", "damaged.safetensors"),
        ("score.schema='none.json'", "none.json"),
        ("score.judge.function='none.py:one'", "file.py:name"),
        ("score.judge={command='pelican judge.py', criteria={a='b?'}}", "that the shell finds, found 'pelican'"),
        ("score.judge={command='sh none.sh', criteria={a='b?'}}", "a script that is there, found 'none.sh'"),
        ("score.judge={base='none', criteria={a='b?'}}", "existing folder or .gguf file"),
    ):
        with pytest.raises(InputError, match=said):
            foldkit.score(foldkit.read_sheet(scored_folder / "fold.toml", [change]), run)
    assert sum(asked) == 6 * fresh.n_rows


def test_the_nearest_shots_are_never_near_copies(scored_folder: Path) -> None:
    """The likest prompts of train under the threshold of near copies, the likest of them last before the question."""
    sheet = foldkit.read_sheet(scored_folder / "fold.toml", ["split.near=0.6"])
    setup = ScoringSetup(sheet, None, None)
    nearest_shots = shots_of(sheet.score.contender[1], setup)
    assert isinstance(nearest_shots, NearestShots)
    trained = [row["question"] for row in setup.train_rows]
    for question, shots in nearest_shots.chosen.items():
        alike = sorted((likeness(question, other) for other in trained), reverse=True)
        allowed = [value for value in alike if value < 0.6]
        found = [likeness(question, row["question"]) for row in shots.rows]
        assert found[::-1] == pytest.approx(allowed[:2])
    assert nearest("wind 1 west?", ["sea", "wind 1 west?"], 1) == [(1, 1.0)]


def test_before_a_training_the_base_and_shots_are_scored(scored_folder: Path) -> None:
    """Into a folder of its own; the words say whether asking does the job. A base may judge, all it says is read."""
    judge = ("score.judge.function=", "score.judge.base=tiny")
    sheet = foldkit.read_sheet(scored_folder / "fold.toml", judge)
    card = foldkit.score(sheet, None)
    assert set(card.signed["judge"]["unreadable"].values()) == {0}
    assert all("judge clear" in score.measures for score in card.contenders)
    assert [pairs["unreadable"] for pairs in card.signed["judge"]["pairs"].values()] == [0] * (len(card.contenders) - 1)
    assert "adapter" not in [score.name for score in card.contenders]
    page = (scored_folder / "before" / "scorecard.md").read_text()
    assert "Asking better " in page
    assert "prompt tokens a question" in page


def test_a_base_judges_without_the_adapter(scored_folder: Path) -> None:
    """Its grades are those of a copy of it, on which no adapter ever was."""
    shutil.copytree(scored_folder / "tiny", scored_folder / "copy")
    run, found = RunFolder(scored_folder / "runs" / "second"), []
    for name in ("tiny", "copy"):
        sheet = foldkit.read_sheet(
            scored_folder / "fold.toml", ("score.judge.function=", f"score.judge.base={name}", "score.general=")
        )
        card = foldkit.score(sheet, run)
        found.append([row["contenders"][one.name]["judge clear"] for row in card.rows for one in card.contenders])
        for kept in (scored_folder / "answers").glob("judge-*.jsonl"):
            kept.unlink()
    assert found[0] == found[1]


@pytest.mark.parametrize(("group", "n_near"), [("", 0), ("near", 1)])
def test_rows_that_say_the_same_count_once(work_folder: Path, group: str, n_near: int) -> None:
    """Copies in test are resampled together; near copies too where they stay together in the split."""
    given = [json.loads(line) for line in (work_folder / "rows.jsonl").read_text().splitlines()]
    long = "the wind at the old light went round to the south west and then it blew as it had not blown in years"
    given += [{**given[0], "question": long}, {**given[0], "question": long}, {**given[0], "question": f"{long}!"}]
    rows = "".join(
        json.dumps(row | {"part": "test" if n >= len(given) - 6 else "train"}) + "\n" for n, row in enumerate(given)
    )
    (work_folder / "rows.jsonl").write_text(rows)
    changes = ["split.column=part", f"split.group={group}"]
    card = foldkit.score(foldkit.read_sheet(work_folder / "fold.toml", changes), None)
    assert (card.n_rows, card.n_groups) == (6, 5 - n_near)


@pytest.mark.parametrize(
    ("planted", "said"),
    [
        ('{"row": 1}', "row, a whole number, and answer"),
        ('{"row": ROW, "answer": "x"}\n{"row": ROW, "answer": "y"}', "each row once"),
        ('{"row": ROW, "answer": "x"}', "an answer to every test row"),
    ],
)
def test_a_file_of_answers_must_have_every_row_once(scored_folder: Path, planted: str, said: str) -> None:
    """The line, and what to do; an adapter that is not there is refused before anything is asked."""
    sheet = foldkit.read_sheet(scored_folder / "fold.toml")
    row = foldkit.build(sheet).parts["test"][0].row
    (scored_folder / "elsewhere.jsonl").write_text(planted.replace("ROW", str(row)) + "\n")
    with pytest.raises(InputError, match=said):
        foldkit.score(sheet, None)
    shutil.rmtree(scored_folder / "runs" / "first")
    shutil.rmtree(scored_folder / "answers", ignore_errors=True)
    with pytest.raises(UsageError, match="a run of this sheet or an adapter file"):
        foldkit.score(sheet, RunFolder(scored_folder / "runs" / "second"))
    assert not (scored_folder / "answers").exists()


def test_contenders_that_were_trained_on_other_rows_or_weights_are_named(
    work_folder: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    """Trained on another split, or begun so, or over a base that is held or computes otherwise; one alike is not.

    So is that rows were too many to be held against those of train.
    """
    path = work_folder / "fold.toml"
    foldkit.train(foldkit.read_sheet(path, [*SHORT, "split.seed=5"]), "other")
    foldkit.train(
        foldkit.read_sheet(path, [*SHORT, "train.window=100", "base.weights=int8", "base.compute=bfloat16"]), "same"
    )
    begun = foldkit.train(foldkit.read_sheet(path, [*SHORT, "adapter.begin=runs/other/adapter.safetensors"]), "begun")
    notes = [note["says"] for note in foldkit.read_log(begun.log).of("note")]
    assert any(note.startswith("runs/other/adapter.safetensors was trained on other rows") for note in notes)
    contenders = "score.contender=[{name='a', adapter='other'}, {name='b', adapter='same'}]"
    monkeypatch.setattr("foldkit.work.scored_rows._MOST_COMPARED", 0)
    card = foldkit.score(foldkit.read_sheet(path, [*SHORT, contenders, "base.weights=int8"]), begun)
    assert card.signed["elsewhere"] == {"a": "was trained", "adapter": "began with an adapter that was trained"}
    said = (begun.path / "scorecard.md").read_text()
    assert "a was trained on other rows, or on another split of them: test rows may be among what it learned." in said
    n_train = len(foldkit.build(foldkit.read_sheet(path)).parts["train"])
    assert f"is not told: {n_train} rows of train and {card.n_rows} of test are too many to hold" in said
    held = re.findall(r"(\w+) was trained with base.(\w+=\w+), and is scored with (\w+): --set base.\2 scores it", said)
    assert held == [
        ("a", "weights=float32", "int8"),
        ("b", "compute=bfloat16", "float32"),
        ("adapter", "weights=float32", "int8"),
    ]


def test_leaks_are_told_of_however_many_rows(work_folder: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    """Those of the split, where nearness to train would take too long and is left out; the control has both."""
    rows = (work_folder / "rows.jsonl").read_text()
    (work_folder / "rows.jsonl").write_text(rows + rows.replace("wind", "Wind"))
    sheet = foldkit.read_sheet(work_folder / "fold.toml")
    leaks = [str(leak) for leak in foldkit.split(sheet).leaks if leak.part == "test"]
    for most in (10**8, 0):
        monkeypatch.setattr("foldkit.work.scored_rows._MOST_COMPARED", most)
        asked = asked_rows(ScoringSetup(sheet, None, None), [], Form())
        assert asked.leaks == leaks != []
        assert bool(asked.near) == bool(most)
