"""Trying settings, and the page about a run."""

from __future__ import annotations

import re
from html.parser import HTMLParser
from pathlib import Path
from typing import Any

import pytest
import scipy.stats

import foldkit
from foldkit.formats import InputError, UsageError
from foldkit.runs import RunFolder, list_runs, read_run_sheet
from foldkit.work import Tried, lead_of, make_trials, plan_of, plan_trials, read_trials, runs_table, write_report

SHORT = ("train.epochs=0.5", "train.validations=2")


def quiet(number: int, n_runs: int, settings: dict[str, Any]) -> None:
    """Hear of a trial and do nothing."""


def test_every_combination_is_a_run_and_seeds_are_taken_together(work_folder: Path) -> None:
    """Ranked by mean validation loss; the interval over two seeds is SciPy's; nothing of the test part is read."""
    sheet = foldkit.read_sheet(work_folder / "fold.toml", SHORT)
    trials = plan_trials(sheet, ["train.learning_rate=[1e-6, 1e-2]", "train.seed=[1, 2]"], "tries")
    heard: list[Any] = []
    tried = make_trials(trials, lambda number, n, settings: heard.append((number, n, settings)))
    assert [one[:2] for one in heard] == [(1, 4), (2, 4), (3, 4), (4, 4)]
    assert heard[1][2] == {"train.learning_rate": 1e-6, "train.seed": 2}
    assert [one.settings for one in tried] == [{"train.learning_rate": 1e-2}, {"train.learning_rate": 1e-6}]
    assert tried[0].runs == ["tries-03", "tries-04"]
    by_name = {run.name: run.best_validation_loss for run in list_runs(work_folder / "runs")}
    assert tried[0].losses == [by_name["tries-03"], by_name["tries-04"]]
    values = [float(loss) for loss in tried[0].losses]
    interval = scipy.stats.t.interval(0.95, 1, sum(values) / 2, scipy.stats.sem(values))
    assert tried[0].ends == pytest.approx(interval, rel=1e-9)
    assert tried[0].by_seed == dict(zip((1, 2), values, strict=True))
    lead = lead_of(tried)
    assert lead
    assert lead.value == pytest.approx(tried[1].mean - tried[0].mean)
    assert read_run_sheet(trials.run(3))["train"]["learning_rate"] == 1e-2
    table = runs_table(sheet)
    assert table.set_index("name").loc["tries-02", "train.seed"] == 2


@pytest.mark.parametrize(
    ("first", "second", "sure"),
    [
        ({1: 0.50, 2: 0.60, 3: 0.70}, {1: 0.52, 2: 0.62, 3: 0.721}, True),
        ({1: 0.50, 2: 0.60, 3: 0.70}, {1: 0.70, 2: 0.52, 3: 0.62}, False),
        ({1: 0.50, 2: 0.60}, {2: 0.75, 3: 0.9}, False),
        ({1: 0.50}, {2: 0.75}, None),
        ({1: 0.50}, {}, None),
    ],
)
def test_a_lead_is_one_of_pairs_of_seeds(first: dict[int, float], second: dict[int, float], sure: bool | None) -> None:
    """A small one that every seed has is told, by SciPy's paired test; what a seed turns round, or one has, is not."""
    tried = [Tried({}, [], losses, 0.0, []) for losses in (first, second)]
    lead = lead_of(tried)
    assert (lead.sure if lead else None) is sure
    assert lead_of(tried[:1]) is None
    if lead and lead.n_seeds == 3:
        found = scipy.stats.ttest_rel(list(second.values()), list(first.values())).confidence_interval(0.95)
        assert lead.ends == pytest.approx((found.low, found.high))
        assert bool(found.low > 0) is sure


def test_trials_go_on_as_a_whole_and_a_failure_ends_none_of_the_others(work_folder: Path) -> None:
    """A stop ends all; going on makes what is not finished and nothing twice; a bad step is kept as failed."""
    sheet = foldkit.read_sheet(work_folder / "fold.toml", ["train.epochs=1", "train.validations=2"])
    trials = plan_trials(sheet, ["train.runaway=[0, 0.5, 100]"])
    asked = iter([False, True])
    first = make_trials(trials, quiet, stop=lambda: next(asked, True))
    assert sorted(state for one in first for state in one.states) == ["not begun", "not begun", "stopped"]
    again = read_trials(RunFolder(trials.folder.path))
    assert plan_of(trials.run(3)) == trials.folder
    assert plan_of(RunFolder(trials.folder.path.with_name(f"{trials.folder.path.name}-4"))) is None
    began: list[int] = []
    done = make_trials(again, lambda number, n, settings: began.append(number))
    states = {one.settings["train.runaway"]: one.states for one in done}
    assert states == {0: ["finished"], 0.5: ["failed"], 100: ["finished"]}
    assert done[-1].losses == []
    began.clear()
    make_trials(again, lambda number, n, settings: began.append(number))
    assert began == [2]


@pytest.mark.parametrize(
    ("varied", "said"),
    [
        ("adapter.rang=[4]", "did you mean 'adapter.rank'"),
        ("adapter.rank=4", r"section.key=\[values\]"),
        ("adapter.rank=[]", r"section.key=\[values\]"),
        ("adapter.rank=[4, 0]", "1 to"),
        ("split.seed=[1, 2]", "can't be compared"),
        ("train.window=[64, 128]", "can't be compared"),
        ("base.model=['a', 'b']", "can't be compared"),
        ("adapter.names=[['query'], ['nope']]", "patterns of maps in reach, .* found 'nope'"),
        ("adapter.full=[[], ['head']]", "a head of its own"),
        ("adapter.ranks=[{}, {nope=4}]", "patterns of maps in reach, .* found 'nope'"),
        ("adapter.begin=['', 'none.safetensors']", "none.safetensors: adapter: expected an existing file"),
    ],
)
def test_what_cannot_be_varied_is_refused_before_a_folder_is_made(work_folder: Path, varied: str, said: str) -> None:
    """Unknown, no list, out of range, losses of another kind, adapters that the base cannot have."""
    with pytest.raises(InputError, match=said):
        plan_trials(foldkit.read_sheet(work_folder / "fold.toml"), [varied])
    assert not (work_folder / "runs").exists()


def test_runs_that_are_there_already_are_never_taken_for_trials(work_folder: Path) -> None:
    """A run of the name that a trial would get: refused, and no plan is left behind."""
    sheet = foldkit.read_sheet(work_folder / "fold.toml")
    (work_folder / "runs" / "t-02").mkdir(parents=True)
    with pytest.raises(UsageError, match="'t-02'; choose another name"):
        plan_trials(sheet, ["adapter.rank=[2, 4]"], "t")
    assert not (work_folder / "runs" / "t").exists()


class _Links(HTMLParser):
    """Every place that a page would fetch something from."""

    def __init__(self) -> None:
        super().__init__()
        self.found: list[str] = []
        self.text = ""

    def handle_starttag(self, tag: str, attrs: list[tuple[str, str | None]]) -> None:
        self.found += [str(value) for name, value in attrs if name in ("src", "href") or (name == "srcset")]

    def handle_data(self, data: str) -> None:
        self.text += data


def test_the_page_stands_alone_and_holds_what_was_done(work_folder: Path) -> None:
    """No outside links; settings, losses, scorecard, answers as text, never as markup; without a scorecard too."""
    rows = (work_folder / "rows.jsonl").read_text().replace("wind 3 ", "<b>wind</b> 3 ")
    (work_folder / "rows.jsonl").write_text(rows)
    sheet = foldkit.read_sheet(work_folder / "fold.toml", [*SHORT, "split.test=0.7"])
    run = foldkit.train(sheet)
    early = write_report(run).read_text()
    assert "Answers side by side" not in early
    card = foldkit.score(sheet, run)
    page = write_report(run, work_folder / "page.html").read_text()
    reader = _Links()
    reader.feed(page)
    assert [link for link in reader.found if not link.startswith("#")] == []
    assert not re.search(r"url\((?!['\"]?#)|@import|http-equiv", page)
    assert "<b>wind</b> 3" not in page
    for said in ("run-001", "split.test", "Data and checks", "few rows", f"{card.n_rows}", "best validation loss"):
        assert said in reader.text
    few = write_report(run, work_folder / "few.html", most=2).read_text()
    assert ("from all over them" in page, few.count("<article ")) == (False, 2)
    assert f"2 of {card.n_rows} rows, from all over them; rows.jsonl" in few
    changed = (work_folder / "rows.jsonl").read_text().replace("north", "nord")
    (work_folder / "rows.jsonl").write_text(changed)
    assert "has changed since this training" in write_report(run).read_text()
    (work_folder / "rows.jsonl").unlink()
    assert "can&#39;t be read any more" in write_report(run).read_text()
