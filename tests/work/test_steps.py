"""The steps of a sheet on a tiny base, from Python."""

from __future__ import annotations

import errno
import json
import os
import re
import subprocess
import sys
from concurrent.futures import ThreadPoolExecutor, wait
from pathlib import Path

import pytest
from safetensors.torch import load_file, save_file

import foldkit
from foldkit.adapters import read_header
from foldkit.answering import AnswerSettings
from foldkit.formats import FoldKitError, InputError, StoppedError, UsageError, all_kept, locked, read_jsonl
from foldkit.models import Decoder, open_base
from foldkit.models.compute import narrow_times
from foldkit.models.device import CPU
from foldkit.rows import RowsSettings, find_files, read_rows
from foldkit.runs import RunFolder, read_log
from foldkit.training import (
    Finished,
    Noted,
    Preparing,
    Stepped,
    TrainEvent,
    first_steps,
    memory_of_training,
    too_many_bytes,
)
from foldkit.training.memory import peak_bytes
from foldkit.work import (
    Conversation,
    answer_rows,
    faster_compute,
    make_trials,
    open_asked_base,
    plan_trials,
    read_questions,
)
from foldkit.work.parts import Parts
from foldkit.work.scoring_setup import ScoringSetup

from ..conftest import in_two_processes


def test_rows_to_scores(work_folder: Path) -> None:
    """Built once, trained, scored, asked; the run folder holds all of it; the same seed gives the same bytes.

    What the process held before a training is not that training's peak.
    """
    sheet = foldkit.read_sheet(work_folder / "fold.toml")
    dataset = foldkit.build(sheet)
    built = work_folder / "built" / "manifest.json"
    stamp = built.stat().st_mtime_ns
    events: list[TrainEvent] = []
    run = foldkit.train(sheet, "first", events.append)
    assert built.stat().st_mtime_ns == stamp
    assert isinstance(events[-1], Finished)
    log = read_log(run.log)
    assert [len(log.of(name)) for name in ("started", "validation", "finished")] == [1, 3, 1]
    assert log.series("step", "loss")[0] == list(range(1, events[-1].step + 1))
    block = bytes([1]) * 4 * 10**8
    held = peak_bytes()
    del block
    again = foldkit.train(sheet, "again")
    assert 0 < read_log(again.log).of("finished")[0]["peak_bytes"] < held - 2 * 10**8
    assert again.adapter.read_bytes() == run.adapter.read_bytes()
    header = read_header(run.adapter)
    assert header.template["name"] == "question"
    assert header.data_fingerprint == dataset.fingerprint
    heard: list[tuple[str, int, int]] = []
    card = foldkit.score(sheet, run, lambda *what: heard.append(what))
    assert [score.name for score in card.contenders] == ["base", "adapter"]
    assert card.contender("adapter").measures["loss"].value < card.contender("base").measures["loss"].value
    assert ("adapter", card.n_rows, card.n_rows) in heard
    test_rows = {example.row for example in dataset.parts["test"]}
    assert {row["row"] for row in read_jsonl(run.path / "rows.jsonl")} == test_rows
    kept = run.read_scorecard()
    assert kept.keys() - card.as_mapping().keys() == {"says", "tables", "rows_fingerprint"}
    assert {name: kept[name] for name in card.as_mapping()} == json.loads(json.dumps(card.as_mapping()))
    asked = foldkit.open_asked(run.adapter)
    assert asked.main_slot == "question"
    row = asked.row("wind 3 west?", {})
    prompt = next(e for e in dataset.parts["train"])
    assert asked.answer(row, AnswerSettings(5), adapted=False) != asked.answer(row, AnswerSettings(5))
    source = dict(enumerate(read_jsonl(work_folder / "rows.jsonl"), 1))[prompt.row]
    ids = asked.answerer.prompt_ids({"question": source["question"]})
    assert ids == prompt.ids[: prompt.learned.index(True)]
    with pytest.raises(UsageError, match="did you mean 'question'"):
        asked.row("", {"questions": "x"})


TWO = """
import foldkit
sheet = foldkit.read_sheet("fold.toml", ["train.micro_batch=2"])
heard = []
run = foldkit.train(sheet, on_event=heard.append, stop=lambda: len(heard) > 3)
print(run.path.name, bool(heard), foldkit.resume("runs/run-001").path.name)
"""


def test_each_of_two_processes_makes_the_same_calls(work_folder: Path) -> None:
    """One run, which both are told; the first alone writes it and hears of it; it goes on to its end."""
    (work_folder / "two.py").write_text(TWO)
    assert in_two_processes(["two.py"], work_folder) == ["run-001 True run-001\n", "run-001 False run-001\n"]
    log = read_log(work_folder / "runs" / "run-001" / "log.jsonl")
    assert [one["reason"] for one in log.of("finished")][-1] == "done"
    assert log.of("resumed")


def test_a_conversation_goes_on_until_its_context_is_full(work_folder: Path) -> None:
    """Each answer stands before the next question; another adapter takes over; a full context is told, not cut."""
    sheet = foldkit.read_sheet(work_folder / "fold.toml", ["train.epochs=0.5", "train.validations=1"])
    first, second = foldkit.train(sheet), foldkit.train(sheet)
    talk = Conversation(foldkit.open_asked(first.adapter), AnswerSettings(30), {})
    said = [talk.n_context]
    for number in range(3):
        answer = talk.answer(f"wind {number} west?", adapted=True)
        talk.keep(f"wind {number} west?", "".join(answer))
        said.append(talk.n_context)
        talk.use_adapters({(first if number else second).adapter: 1.0})
    assert said == sorted(set(said))
    assert len(talk.history.said) == 3
    with pytest.raises(InputError, match="at most 256 tokens"):
        talk.answer("wind " * 300, adapted=True)
    n_left = 256 - len(talk.asked.answerer.prompt_ids({"question": "west?"}, talk.history))
    talk.settings = AnswerSettings(1000)
    answer = talk.answer("west?", adapted=False)
    assert list(answer)
    assert answer.n_tokens <= n_left
    talk.forget()
    assert talk.n_context == 0
    for answer in ("<think>a</think>\n", "<think>a", "<think>a</think> b"):  # thoughts alone are no answer
        talk.keep("west?", answer)
    assert [answer for _, answer in talk.history.said] == ["", "<think>a", "<think>a</think> b"]


@pytest.mark.parametrize(
    ("compute", "narrow", "chosen", "said"),
    [
        ("bfloat16", 2.0, "bfloat16", "as asked for, but products in bfloat16 take 2.0 times as long as in float32"),
        ("bfloat16", 0.9, "bfloat16", ""),
        ("auto", 0.5, "bfloat16", "computes in bfloat16: products in bfloat16 take 0.5 times"),
        ("auto", 0.9, "float32", "computes in float32: products in bfloat16 take 0.9 times"),
        ("float32", 0.5, "float32", ""),
    ],
)
def test_the_dtype_that_is_computed_in_is_written_down(
    work_folder: Path, compute: str, narrow: float, chosen: str, said: str, monkeypatch: pytest.MonkeyPatch
) -> None:
    """In the adapter and in the run's sheet as it was chosen; what was measured is a note where it tells."""
    assert narrow_times(CPU) > 0
    monkeypatch.setattr("foldkit.models.compute._seconds", lambda device: (1.0, narrow))
    changes = ["train.steps=1", "train.validations=1", f"base.compute={compute}"]
    sheet = foldkit.read_sheet(work_folder / "fold.toml", changes)
    run = foldkit.train(sheet)
    assert read_header(run.adapter).compute == chosen
    assert json.loads(run.sheet.read_text())["base"]["compute"] == chosen
    notes = [note["says"] for note in foldkit.read_log(run.log).of("note")]
    assert [said in note for note in notes if "products in bfloat16" in note] == [True] * bool(said)
    assert ("take 0.5 times as long" in faster_compute(sheet)) == (compute == "float32")
    asked = foldkit.open_asked(run.adapter)
    assert asked.base.compute == chosen
    monkeypatch.setattr("foldkit.models.compute._seconds", lambda device: (1.0, 0.5 if chosen == "float32" else 1.0))
    assert ScoringSetup(sheet, run, None).base.compute == chosen  # which is not measured anew


@pytest.mark.parametrize(
    ("free", "given", "size", "said"),
    [
        (10**10, "'auto'", 4, None),
        (10**10, "2", 2, None),
        (0, "'auto'", 1, "micro_batch is 1: 4 would be faster, and take more than the "),
        (-100, "'auto'", 1, "this takes about "),
        (-100, "4", 4, "this takes about "),
    ],
)
def test_the_micro_batch_is_chosen_and_written_down(
    work_folder: Path, monkeypatch: pytest.MonkeyPatch, free: int, given: str, size: int, said: str | None
) -> None:
    """The batch where that is fast and fits, else fewer; what may not fit is said before the first step.

    `free` is counted from what passes of one example take, where it is below one of them.
    """
    sheet = foldkit.read_sheet(work_folder / "fold.toml", ["train.steps=2", "train.micro_batch=1"])
    if free < 1:
        parts = Parts(sheet)
        rows = parts.dataset.parts["train"]
        steps = first_steps(rows, sheet.train)
        memory_with = memory_of_training(parts.base.decoder, parts.adapter, rows, steps, sheet.train)
        free += round(too_many_bytes(sheet.train, memory_with, 0) / 0.9) + 1
    monkeypatch.setattr("foldkit.training.free_memory.free_bytes", lambda _: free)
    events: list[TrainEvent] = []
    changes = ["train.steps=2", f"train.micro_batch={given}"]
    run = foldkit.train(foldkit.read_sheet(work_folder / "fold.toml", changes), on_event=events.append)
    assert json.loads(run.sheet.read_text())["train"]["micro_batch"] == size
    few, *notes = [note["says"] for note in foldkit.read_log(run.log).of("note")]
    assert [note[: len(said or "")] for note in notes] == ([said] if said else [])
    assert [event.says for event in events if isinstance(event, Noted)] == [few, *notes]
    assert re.match(r"[2-9] rows choose the best adapter, which is much by chance: a larger split.validation", few)
    if given != "'auto'":
        told: list[TrainEvent] = []
        foldkit.find_rate(foldkit.read_sheet(work_folder / "fold.toml", changes), on_event=told.append)
        assert [event.says[: len(said or "")] for event in told if isinstance(event, Noted)] == ([said] if said else [])


def test_a_search_for_a_rate_begins_with_its_folder_and_leaves_none_unfinished(work_folder: Path) -> None:
    """Where none can be made it says so before the work; a search that is stopped takes its own away."""
    sheet, tried = foldkit.read_sheet(work_folder / "fold.toml", ["train.batch=2"]), list[object]()

    def stop(*_: object) -> None:
        raise KeyboardInterrupt

    runs = work_folder / "runs"
    with pytest.raises(KeyboardInterrupt):
        foldkit.find_rate(sheet, stop)
    assert list(runs.iterdir()) == []
    runs.rmdir()
    runs.write_text("no folder")
    with pytest.raises(InputError, match="runs: folder: expected a folder to write in"):
        foldkit.find_rate(sheet, lambda *one: tried.append(one))
    assert tried == []


@pytest.mark.parametrize(
    ("share", "said"),
    [(1.0, ""), (0.6, "weights = 'stored' takes"), (0.3, "weights = 'int8' takes"), (0.1, "choose a smaller base")],
)
def test_a_base_that_memory_has_no_room_for_is_refused_with_what_has(
    work_folder: Path, monkeypatch: pytest.MonkeyPatch, share: float, said: str
) -> None:
    """Before a weight is read, for the system would end the program without a word; nothing is begun."""
    sheet = foldkit.read_sheet(work_folder / "fold.toml")
    room = share * open_base(sheet.base_path()).n_weight_bytes
    monkeypatch.setattr("foldkit.training.free_memory.room_bytes", lambda _: room)
    if not said:
        assert open_asked_base(sheet).contenders == ("base",)
        return
    for use in (open_asked_base, foldkit.forecast, foldkit.train):
        with pytest.raises(InputError, match=rf"memory: expected at most the .* MB there are, .*{said}"):
            use(sheet)
    assert not list(work_folder.glob("runs/*"))


def test_a_killed_training_resumes_to_the_same_bytes(work_folder: Path) -> None:
    """SIGKILL at 25 named points: adapter and losses end as those of a training left alone, with nothing left over."""
    words = [sys.executable, "-m", "tests.work.killing", str(work_folder)]
    done = subprocess.run(words, capture_output=True, text=True, check=False, cwd=Path(__file__).parents[2])
    assert done.returncode == 0, done.stderr
    found = json.loads(done.stdout.splitlines()[-1])
    assert len(found) >= 25
    assert {point: held for point, held in found.items() if held != [True] * 5} == {}, done.stderr


def test_a_run_is_one_trainings_own_and_resumes_on_its_own_data(work_folder: Path) -> None:
    """A second training in the folder is refused, its name before anything is opened.

    So is going on with other rows, or from a damaged checkpoint.
    """
    sheet = foldkit.read_sheet(work_folder / "fold.toml", ["train.epochs=1", "train.validations=2"])

    refused: list[str] = []

    def second(_: TrainEvent) -> None:
        if not refused:
            with pytest.raises(FoldKitError, match="another process is at work") as told:
                foldkit.resume(foldkit.newest_run(work_folder / "runs"))
            refused.append(str(told.value))

    run = foldkit.train(sheet, "", second)
    assert refused
    with pytest.raises(UsageError, match="a name not taken"):
        foldkit.train(foldkit.read_sheet(work_folder / "fold.toml", ["base.model=none"]), run.path.name)
    assert len(list(run.checkpoints.iterdir())) == 2
    before = run.adapter.read_bytes()
    assert foldkit.resume(run).adapter.read_bytes() == before
    last = max(run.checkpoints.iterdir())
    whole = last.read_bytes()
    last.write_bytes(whole[:-9])
    with pytest.raises(InputError, match="a whole checkpoint"):
        foldkit.resume(run)
    last.write_bytes(whole)
    with (work_folder / "rows.jsonl").open("a") as file:
        file.write('{"question": "wind 99?", "answer": "none"}\n')
    with pytest.raises(InputError, match="data: expected"):
        foldkit.resume(run)


def test_a_second_stage_begins_with_the_first_ones_adapter(work_folder: Path) -> None:
    """Its first loss is near the first stage's last; factors of another shape are refused."""
    path, few = work_folder / "fold.toml", ["train.validations=1", "train.batch=40", "train.warm_up=0"]
    first = foldkit.train(foldkit.read_sheet(path, [*few, "train.epochs=30", "train.learning_rate=1e-2"]), "first")
    begin = "adapter.begin=runs/first/adapter.safetensors"
    second = foldkit.train(foldkit.read_sheet(path, [*few, "train.epochs=1", "train.learning_rate=1e-9", begin]))
    before, after = (foldkit.read_log(run.log).of("validation")[-1]["validation_loss"] for run in (first, second))
    assert after == pytest.approx(before, rel=1e-4)
    for change, said in (("adapter.rank=3", "factors: expected those of"), ("adapter.alpha=4", "alpha and scaling")):
        with pytest.raises(InputError, match=said):
            foldkit.train(foldkit.read_sheet(path, [*few, begin, change]))


def test_preferences_go_the_whole_way(work_folder: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    """The reference is kept beside the dataset and found anew for another start; figures in log, scores and picture."""
    words = ("west", "east", "north", "south")
    rows = [{"prompt": f"wind {i} {words[i % 4]}?", "chosen": words[i % 4], "rejected": "who knows"} for i in range(40)]
    (work_folder / "rows.jsonl").write_text("".join(json.dumps(row) + "\n" for row in rows))
    changes = ["template.use=preference", "train.objective=direct", "score.measures=['ranked', 'loss']"]
    sheet = foldkit.read_sheet(work_folder / "fold.toml", changes)

    def lengths(decoder: Decoder, prompts: list[tuple[int, ...]], *_: object) -> list[list[int]]:
        return [[1] * (40 if any(getattr(m, "enabled", False) for m in decoder.modules()) else 3)] * len(prompts)

    monkeypatch.setattr("foldkit.models.generate", lengths)
    run = foldkit.train(sheet)
    monkeypatch.undo()
    (kept,) = (work_folder / "built").glob("reference-*.safetensors")
    before = kept.read_bytes()
    foldkit.train(sheet)
    assert [path.read_bytes() for path in (work_folder / "built").glob("reference-*")] == [before]
    log = foldkit.read_log(run.log)
    assert log.of("step")[0]["margin"] == pytest.approx(0, abs=1e-4)
    assert "figures" not in log.of("step")[0]
    assert {"ranked", "chosen_log_prob", "rejected_tokens"} <= log.of("validation")[0].keys()
    said = [note["says"] for note in log.of("note")]
    assert any("rejected replies are longer" in note for note in said)
    assert any(
        re.search("40 tokens where the chosen replies have [1-9].* base's answers 3, on ", note) for note in said
    )
    assert [note["says"] for note in foldkit.read_log(foldkit.resume(run).log).of("note")] == said
    measured = foldkit.score(sheet, run).contender("adapter").measures
    assert set(measured) == {"ranked", "loss"}
    with pytest.raises(
        InputError, match="objective direct: expected a template whose last learned turn has a rejected"
    ):
        foldkit.train(foldkit.read_sheet(work_folder / "fold.toml", ["train.objective=direct"]), "none")
    assert not (work_folder / "runs" / "none").exists()
    begun = [*changes, f"adapter.begin={run.adapter}"]
    foldkit.train(foldkit.read_sheet(work_folder / "fold.toml", begun))
    assert len(list((work_folder / "built").glob("reference-*"))) == 2


def test_a_reference_is_stopped_and_gone_on_with(work_folder: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    """What was found is kept, half a line aside, and comes out the same; before there is one no run begins."""
    rows = [{"prompt": f"wind {i}?", "chosen": "west", "rejected": "who knows"} for i in range(40)]
    (work_folder / "rows.jsonl").write_text("".join(json.dumps(row) + "\n" for row in rows))
    few = ["template.use=preference", "train.objective=direct", "train.micro_batch=4", "train.steps=1"]
    sheet, built = foldkit.read_sheet(work_folder / "fold.toml", few), work_folder / "built"
    monkeypatch.setattr("foldkit.work.reference._SHOWN", 0)
    heard: list[TrainEvent] = []
    before = foldkit.forecast(sheet).duration
    foldkit.train(sheet, on_event=heard.append)
    after = foldkit.forecast(sheet).duration
    assert before
    assert after
    assert before.reference > 0 == after.reference
    told = [event for event in heard if isinstance(event, Preparing)]
    assert [event.n_done for event in told] == sorted({event.n_done for event in told})
    assert told[-1].n_done == told[-1].n_rows == 40 - len(foldkit.build(sheet).parts["test"])
    (kept,) = built.glob("reference-*")
    whole = kept.read_bytes()
    kept.unlink()
    for asked in (2, 1):
        with pytest.raises(StoppedError, match="the same command goes on with it"):
            foldkit.train(sheet, "none", stop=iter([*[False] * asked, True]).__next__)
        (part,) = built.glob("reference-*.jsonl")
        with part.open("a") as file:
            file.write('{"values": [[1, ')
    trials = plan_trials(sheet, ["train.seed=[1, 2]"])
    tried = make_trials(trials, lambda *_: None, stop=lambda: True)
    assert [state for one in tried for state in one.states] == ["not begun"] * 2
    assert len(all_kept(part)) == 3  # those of the first time, none again; half a line is passed over
    assert not (work_folder / "runs" / "none").exists()
    part.with_name(part.name.replace("0-of-1", "1-of-2")).touch()
    foldkit.train(sheet)
    assert [path.read_bytes() for path in built.glob("reference-*")] == [whole]


def test_replies_with_a_verdict_go_the_whole_way(work_folder: Path) -> None:
    """Half of them good, half bad: trained by `unpaired`, scored on those that have a reply to be right."""
    rows = [
        {"prompt": f"wind {i}?", "reply": ("west", "who knows, who cares")[i % 2], "verdict": ("up", "down")[i % 2]}
        for i in range(60)
    ]
    (work_folder / "rows.jsonl").write_text("".join(json.dumps(row) + "\n" for row in rows))
    changes = ["rows.judged={}", "template.use=preference", "train.objective=unpaired", "score.measures=['loss']"]
    sheet = foldkit.read_sheet(work_folder / "fold.toml", changes)
    run = foldkit.train(sheet)
    log = foldkit.read_log(run.log)
    assert {"chosen_log_prob", "rejected_log_prob"} <= log.of("validation")[-1].keys()
    assert "ranked" not in log.of("validation")[-1]
    steps = [json.loads(line) for line in run.log.read_text().splitlines() if '"event": "step"' in line]
    assert len(steps) == len(log.of("step"))
    assert {(*step, step["ranked"]) for step in steps} == {(*steps[0], None)}
    card = foldkit.score(sheet, run)
    assert 0 < card.n_rows < len(foldkit.build(sheet).parts["test"])


@pytest.mark.parametrize("trouble", ["full disk", "vanished folder"])
def test_a_place_that_cannot_be_written_is_named(
    work_folder: Path, monkeypatch: pytest.MonkeyPatch, trouble: str
) -> None:
    """What was written before is whole, and the training goes on from it when there is room again.

    So it does where the disk left half a line in the log, and another one stands behind it.
    """
    sheet = foldkit.read_sheet(
        work_folder / "fold.toml", ["train.epochs=2", "train.batch=4", "train.checkpoint_every=2"]
    )

    def at_step_five(event: TrainEvent) -> None:
        if isinstance(event, Stepped) and event.step == 5:
            if trouble == "full disk":
                monkeypatch.setattr(os, "fsync", full)
            else:
                (work_folder / "runs" / "one").rename(work_folder / "away")

    def full(_: int) -> None:
        raise OSError(errno.ENOSPC, "No space left on device")

    with pytest.raises(FoldKitError, match="No space left" if trouble == "full disk" else "No such file") as told:
        foldkit.train(sheet, "one", at_step_five)
    assert "--resume" in str(told.value)
    monkeypatch.undo()
    if trouble == "vanished folder":
        (work_folder / "away").rename(work_folder / "runs" / "one")
    else:
        log = work_folder / "runs" / "one" / "log.jsonl"
        log.write_bytes(
            log.read_bytes().replace(b'"step": 3, "epoch', b'"st{"event": "note"}', 1) + b'{"event": "st\xc3'
        )
    resumed = foldkit.resume(RunFolder(work_folder / "runs" / "one"))
    assert resumed.adapter.read_bytes() == foldkit.train(sheet, "two").adapter.read_bytes()


def test_what_no_longer_fits_together_is_refused(work_folder: Path) -> None:
    """An adapter scored on other data; a window over the base's positions; an adapter without its base."""
    path = work_folder / "fold.toml"
    run = foldkit.train(foldkit.read_sheet(path, ["train.epochs=0.2", "train.validations=1"]))
    other = ["split.seed=0", "split.balance=answer", "train.batch=3"]
    with pytest.raises(InputError, match=r"other settings: (--set split\.balance=|--set split\.seed=7 ?){2}$"):
        foldkit.score(foldkit.read_sheet(path, other), run)
    with pytest.raises(InputError, match="at most the base's 256"):
        foldkit.train(foldkit.read_sheet(path, ["train.window=512"]))
    (work_folder / "tiny").rename(work_folder / "moved")
    with pytest.raises(InputError, match="check the path of the base"):
        foldkit.open_asked(run.adapter)
    assert foldkit.open_asked(run.adapter, work_folder / "moved")


def test_a_training_that_fails_says_so_in_its_log(work_folder: Path) -> None:
    """The reason is the last event."""
    sheet = foldkit.read_sheet(work_folder / "fold.toml")

    def stop(event: TrainEvent) -> None:
        raise RuntimeError("enough")

    with pytest.raises(RuntimeError, match="enough"):
        foldkit.train(sheet, "broken", stop)
    assert read_log(work_folder / "runs" / "broken" / "log.jsonl").events[-1]["reason"] == "enough"


def test_leaks_of_the_split_are_found(work_folder: Path) -> None:
    """Each row copied: with the copies apart there are leaks, kept together there are none."""
    lines = [line | {"pair": str(i)} for i, line in enumerate(read_jsonl(work_folder / "rows.jsonl"))]
    copies = [{**line, "note": "copy"} for line in lines]
    (work_folder / "rows.jsonl").write_text("".join(json.dumps(line) + "\n" for line in [*lines, *copies]))
    path = work_folder / "fold.toml"
    found = foldkit.split(foldkit.read_sheet(path))
    assert found.leaks == found.leaks_ungrouped
    assert {leak.what for leak in found.leaks} == {"text"}
    assert all(found.parts[leak.row] == leak.part != "train" for leak in found.leaks)
    together_sheet = foldkit.read_sheet(path, ["split.group=pair"])
    together = foldkit.split(together_sheet)
    assert (together.leaks, bool(together.leaks_ungrouped)) == ((), True)
    assert {finding.name for finding in foldkit.check(foldkit.read_sheet(path))} >= {"duplicates", "few rows"}
    row = next(row for row, part in together.parts.items() if part == "test")
    lines[(row - 1) % len(lines)]["answer"] = "unheard"
    (work_folder / "rows.jsonl").write_text("".join(json.dumps(line) + "\n" for line in lines))
    (unseen,) = (found for found in foldkit.check(together_sheet) if found.name == "unseen label")
    assert unseen.example == "unheard"


def test_weights_held_in_few_bits_go_the_whole_way(work_folder: Path) -> None:
    """Trained, scored and asked over the same base; the adapter's file says how its matrices were held."""
    sheet = foldkit.read_sheet(work_folder / "fold.toml", ["base.weights=int8", "train.epochs=1"])
    run = foldkit.train(sheet)
    assert read_header(run.adapter).weights == "int8"
    assert foldkit.score(sheet, run).n_rows > 0
    asked = foldkit.open_asked(run.adapter)
    assert asked.answerer.decoder.n_parameters > sum(w.numel() for w in asked.answerer.decoder.parameters())
    options = ["west", "east"]
    assert asked.choice({"question": "wind 3 west?"}, options) in options
    questions, out = work_folder / "questions.jsonl", work_folder / "answers.jsonl"

    def answer(rows: list[dict[str, object]], settings: AnswerSettings) -> list[tuple[int, int]]:
        questions.write_text("".join(json.dumps(row) + "\n" for row in rows))
        return list(answer_rows(asked, read_questions(asked, questions), out, settings, asked.contenders, batch=2))

    five = [{"question": f"wind {i}?", "id": i} for i in range(5)]
    assert answer(five, AnswerSettings(3)) == [(2, 5), (4, 5), (5, 5)]
    whole = out.read_text()
    assert [set(row) for row in read_jsonl(out)] == [{"question", "id", "base", "adapter"}] * 5
    out.write_text("".join(line + "\n" for line in whole.splitlines()[:3]) + whole.splitlines()[3][:9])
    assert answer(five, AnswerSettings(3)) == [(5, 5)]
    assert [row["question"] for row in read_jsonl(out)] == [f"wind {i}?" for i in range(5)]
    for rows, said in (
        (five[:1], "line 2"),
        ([{"question": "another?"}], "choose another --out"),
        ([*five, {"question": "wind 6?"}, {"question": None}], "questions, row 7: question: expected a text"),
        ([*five, {"question": "wind " * 300}], "questions, row 6: length: expected at most"),
        ([*five, *[{"question": ""}] * 3], r"questions, row 6 \(and 7, 8\): question: expected a text"),
        ([{"question": "wind 0?", "base": "x"}], "expected names other than where answers are written, found 'base'"),
    ):
        with pytest.raises(InputError, match=said):
            answer(rows, AnswerSettings(3))
    with pytest.raises(InputError, match="expected those of the same settings, found 'others'; choose another --out"):
        answer(five, AnswerSettings(4))
    chosen = work_folder / "chosen.jsonl"
    questions.write_text('{"question": " ", "id": 1}\n')
    blank = read_questions(asked, questions, {"question": "wind 3 west?"})
    list(answer_rows(asked, blank, chosen, AnswerSettings(3), ["adapter"], options=options))
    best = asked.choice({"question": "wind 3 west?"}, options)
    assert read_jsonl(chosen)[-1] == {"question": "wind 3 west?", "id": "1", "adapter": best}
    asked = asked.using({run.adapter: 0.5})
    with pytest.raises(InputError, match="those of the same adapters"):
        answer(five, AnswerSettings(3))
    assert out.read_text() == whole


def test_a_training_says_what_it_does_not_learn(work_folder: Path) -> None:
    """How many rows are set aside, and the first of them with the reason; nothing where there is none."""
    sheet = foldkit.read_sheet(work_folder / "fold.toml", ["train.steps=1", "train.validations=1"])

    def notes() -> list[str]:
        return [note["says"] for note in foldkit.read_log(foldkit.train(sheet).log).of("note")]

    assert not any("set aside" in note for note in notes())
    lines = (work_folder / "rows.jsonl").read_text().splitlines()
    lines[6] = '{"question": "wind?", "answer": " "}'
    lines[8] = json.dumps({"question": "wind " * 200, "answer": "west"})
    (work_folder / "rows.jsonl").write_text("\n".join(lines))
    (said,) = [note for note in notes() if "set aside" in note]
    assert said.startswith("2 rows set aside, from which nothing is learned, the first row 7, blank: answer;")


def test_learned_tokens_that_the_base_cannot_tell_from_others_are_named(work_folder: Path) -> None:
    """Here the end marker, whose row is another token's too; not where that is trained, nor of a base that knows it."""
    at = work_folder / "tiny" / "model.safetensors"
    weights, changes = load_file(at), ["train.steps=1", "train.validations=1"]
    (table,) = [name for name, value in weights.items() if len(value) == 320]

    def notes(*more: str) -> list[str]:
        sheet = foldkit.read_sheet(work_folder / "fold.toml", [*changes, *more])
        said = [note["says"] for note in foldkit.read_log(foldkit.train(sheet).log).of("note")]
        return [one for one in said if "cannot tell" in one]

    assert not notes()
    weights[table][60] = weights[table][0]
    save_file(weights, at)
    (said,) = notes()
    (n,) = re.findall(
        r'whatever an adapter does: "<end>" \((\d+) times, at most 0\.[45]\d*\); the loss stays above', said
    )
    assert int(n) == foldkit.build(foldkit.read_sheet(work_folder / "fold.toml")).counts()["train"]["rows"]
    assert not notes('adapter.full=["embedding"]')


def test_texts_alone_are_learned_and_answered_without_a_question(work_folder: Path) -> None:
    """There is nothing that a question could fill, and one is refused."""
    changes = ["template.use=text", "rows.columns={text='question'}", "train.steps=1", "train.validations=1"]
    asked = foldkit.open_asked(foldkit.train(foldkit.read_sheet(work_folder / "fold.toml", changes)).adapter)
    assert (asked.main_slot, asked.answer({}, AnswerSettings(3))) == ("", asked.answer("", AnswerSettings(3)))
    with pytest.raises(UsageError, match="text: expected none, for template 'text' asks nothing, found 'wind'"):
        asked.answer("wind")


@pytest.mark.parametrize(
    ("turns", "slot"),
    [
        (["role='system'\ntext='{house}'\nneeds='house'", "each='messages'"], "messages"),
        (["role='system'\ntext='{house}'", "role='user'\ntext='{a} {b}'", "role='assistant'\ntext='{c}'"], "a"),
        (["role='system'\ntext='{house}'", "role='assistant'\ntext='{c}'"], "house"),
    ],
)
def test_a_plain_question_fills_what_is_asked_last(work_folder: Path, turns: list[str], slot: str) -> None:
    """A whole conversation too, with a system text before it; what else has a slot is none of its."""
    learned = [turn + ("\nlearned=true" if "assistant" in turn else "") for turn in turns]
    (work_folder / "t.toml").write_text("name='t'\n" + "".join(f"[[turn]]\n{turn}\n" for turn in learned))
    asked = open_asked_base(foldkit.read_sheet(work_folder / "fold.toml", ["template.use=t.toml"]))
    assert asked.row("wind?", {}) == {slot: "wind?"}


def test_files_of_a_split_are_those_of_the_source(work_folder: Path) -> None:
    """Their rows are the part, shaped ones too; a name that is none of them is refused before anything."""
    half = (work_folder / "rows.jsonl").read_text().splitlines(keepends=True)
    (work_folder / "rows.jsonl").write_text("".join(half[:32]))
    (work_folder / "held.jsonl").write_text("".join(half[32:]))
    changes = ["rows.source=*.jsonl", "split.files={test='held.jsonl'}"]
    dataset = foldkit.build(foldkit.read_sheet(work_folder / "fold.toml", changes))
    assert dataset.parts["test"].rows.tolist() == list(range(1, 9))
    with pytest.raises(UsageError, match=r"did you mean 'held\.jsonl'"):
        foldkit.split(foldkit.read_sheet(work_folder / "fold.toml", [changes[0], "split.files={test='hold.jsonl'}"]))
    shaped = [*changes, "rows.bilingual={first='question', second='answer'}", "template.use=translation"]
    sheet = foldkit.read_sheet(work_folder / "fold.toml", shaped)
    table, dataset = read_rows(sheet.rows, sheet.folder).table, foldkit.build(sheet)
    assert dataset.parts["test"].rows.tolist() == table.index[table["source_row"].astype(int) <= 8].tolist()
    assert len(dataset.parts["test"]) == 16


@pytest.mark.parametrize("change", ["split.seed=3", "split.seed=4", "split.test=20"])
def test_a_split_is_compared_with_one_by_the_same_seed_and_sizes(work_folder: Path, change: str) -> None:
    """Every question stands twice: kept together none leaks, and without the group those that the split gives."""
    rows = [{"question": f"wind {i % 20}?", "answer": "west", "nr": i, "day": f"d{i % 20}"} for i in range(40)]
    (work_folder / "rows.jsonl").write_text("".join(json.dumps(row) + "\n" for row in rows))
    sheet = work_folder / "fold.toml"
    alone = foldkit.split(foldkit.read_sheet(sheet, [change]))
    grouped = foldkit.split(foldkit.read_sheet(sheet, [change, "split.group=day"]))
    assert grouped.leaks == ()
    assert grouped.leaks_ungrouped == alone.leaks == alone.leaks_ungrouped != ()


def test_a_build_tells_how_many_rows_came(work_folder: Path) -> None:
    """All of them, those that are set aside too; nothing of a dataset that is built already."""
    (work_folder / "rows.jsonl").write_text((work_folder / "rows.jsonl").read_text() + '{"question": "wind?"}\n')
    sheet, n_rows = foldkit.read_sheet(work_folder / "fold.toml"), list[int]()
    for _ in range(2):
        foldkit.build(sheet, on_rows=n_rows.append)
        assert sum(n_rows) == 41


def test_a_column_that_few_rows_have_is_read_in_pieces(work_folder: Path) -> None:
    """By the template and the split: the only row that has them stands in the last of two pieces."""
    rows = [{"question": f"wind {i}?", "answer": "west"} for i in range(5000)]
    rows.append({"question": "wind?", "answer": "west", "instruction": "Say it.", "input": "fog", "output": "fog"})
    (work_folder / "rows.jsonl").write_text("".join(json.dumps(row) + "\n" for row in rows))
    said = ["template.use=instruction", "split.group=input"]
    built = foldkit.build(foldkit.read_sheet(work_folder / "fold.toml", [*said, "split.validation=0", "split.test=0"]))
    assert built.counts()["train"]["rows"] == 1
    assert (len(built.set_aside), built.set_aside[0].reason) == (5000, "blank: instruction, output")


def test_an_empty_source_is_said_where_it_is_read(work_folder: Path) -> None:
    """Not as a part without rows; nothing is left behind."""
    (work_folder / "rows.jsonl").write_text("\n")
    with pytest.raises(InputError, match="an empty file"):
        foldkit.build(foldkit.read_sheet(work_folder / "fold.toml"))
    assert [path.name for path in (work_folder / "built").iterdir()] == ["lock"]


def test_a_build_waits_for_one_that_is_at_work_there(work_folder: Path) -> None:
    """Another sheet of the folder may be built at the same moment, into the same files."""
    (work_folder / "built").mkdir()
    with ThreadPoolExecutor(1) as pool:
        with locked(work_folder / "built" / "lock"):
            waiting = pool.submit(foldkit.build, foldkit.read_sheet(work_folder / "fold.toml"))
            assert not wait([waiting], timeout=1).done
        assert len(waiting.result().parts["train"])


def test_what_is_made_beside_the_sheet_is_no_source(work_folder: Path) -> None:
    """Not the dataset, the runs, the answers and the decisions; other folders of such names are."""
    settings = [RowsSettings(source) for source in (".", "*.jsonl", "**/*.jsonl", f"../{work_folder.name}")]
    before = [find_files(one, work_folder) for one in settings]
    sheet = foldkit.read_sheet(work_folder / "fold.toml", ["train.steps=1", "train.validations=1"])
    run = foldkit.train(sheet)
    foldkit.score(sheet, run)
    asked = foldkit.open_asked(run.adapter)
    questions = read_questions(asked, str(work_folder / "rows.jsonl"))
    list(answer_rows(asked, questions, work_folder / "answers.jsonl", AnswerSettings(2), ["adapter"]))
    (work_folder / "decisions.jsonl").write_text("{}\n")
    assert {"built", "runs", "answers", "answers.jsonl"} <= {path.name for path in work_folder.iterdir()}
    assert [find_files(one, work_folder) for one in settings] == before
    (work_folder / "before").mkdir()
    (work_folder / "before" / "more.jsonl").write_text("{}\n")
    found = [{path.name for path in find_files(one, work_folder)} for one in settings]
    assert ["more.jsonl" in names for names in found] == [True, False, True, True]
