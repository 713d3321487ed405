"""Smoothing by hand, and a drawing that shows what the log holds."""

from __future__ import annotations

import itertools
import json
import re
import types
from pathlib import Path
from typing import Any

import numpy as np
import pytest

from foldkit.curves import (
    Alarm,
    diagnose,
    draw,
    draw_figure,
    draw_lengths,
    draw_rates,
    save_lengths,
    save_picture,
    save_rates,
    smooth,
    thinned,
)
from foldkit.curves.drawing import new_axes, plain_ticks
from foldkit.formats import InputError, UsageError, write_jsonl
from foldkit.runs import RunFolder, RunLog

from .synthetic import Made, falling, healthy, planted, turning

EVENTS = [
    {"event": "step", "step": n, "loss": 4.0 / n, "epoch": n / 10, "seconds": 30.0 * n, "n_tokens": 100 * n}
    | {"learning_rate": 1e-3 / n, "gradient_norm": 2.0 / n}
    for n in range(1, 21)
] + [
    {"event": "validation", "step": step, "validation_loss": loss, "seconds": 30.0 * step}
    for step, loss in ((10, 0.6), (20, 0.9))
]


@pytest.fixture(autouse=True)
def stalled(monkeypatch: pytest.MonkeyPatch) -> None:
    """Let the place of a legend take two seconds to find, as on a machine that stalls; a warning would be an error."""
    clock = types.SimpleNamespace(perf_counter=itertools.count(0, 2).__next__)
    monkeypatch.setattr("matplotlib.legend.time", clock)


def a_run(folder: Path, events: list[dict[str, Any]], **train: Any) -> RunFolder:
    folder.mkdir(exist_ok=True)
    run = RunFolder(folder)
    write_jsonl(run.log, events)
    run.sheet.write_text(json.dumps({"folder": "..", "base": {"model": "tiny"}, "train": train}))
    return run


def test_smoothing_is_the_mean_of_both_sides_and_does_not_lag() -> None:
    """By hand for weight 1/2; a line stays a line but for its ends; a constant stays itself; the weight has a range."""
    by_hand = [(1 + 1.5 + 0.5) / 1.75, (0.5 + 3 + 1) / 2, (0.25 + 1.5 + 2) / 1.75]
    assert smooth([1.0, 3.0, 2.0], 0.5) == pytest.approx(by_hand)
    assert smooth([float(n) for n in range(101)], 0.5)[50] == pytest.approx(50)
    assert smooth([2.0] * 9) == pytest.approx([2.0] * 9)
    assert smooth([]) == []
    with pytest.raises(ValueError, match="less than 1"):
        smooth([1.0], 1.0)


def test_the_drawing_holds_the_log(tmp_path: Path) -> None:
    """Raw and smoothed train loss, validation with its best marked, epochs as rules; rate and norm below."""
    run = a_run(tmp_path / "a", EVENTS)
    ax = draw(run)
    lines = {str(line.get_label()): line.get_xydata().tolist() for line in ax.lines}
    assert lines["train, each step"] == [[step, 4.0 / step] for step in range(1, 21)]
    assert [point[1] for point in lines["train, smoothed"]] == smooth([4.0 / step for step in range(1, 21)])
    assert lines["validation"] == [[10, 0.6], [20, 0.9]]
    assert [line[0][0] for label, line in lines.items() if label == "end of an epoch"] == [10]
    assert [text.get_text() for text in ax.texts] == ["best 0.6000 at step 10"]
    assert [line.get_xydata().tolist() for line in ax.lines if line.get_fillstyle() == "none"] == [[[10, 0.6]]]
    assert ax.get_title() == "a: tiny"
    assert draw(run, ax) is ax
    _, rates, norms = draw_figure(run).axes
    assert rates.lines[0].get_xydata().tolist() == [[n, 1e-3 / n] for n in range(1, 21)]
    assert norms.lines[0].get_xydata().tolist() == [[n, 2.0 / n] for n in range(1, 21)]
    assert norms.lines[1].get_xydata()[:, 1].tolist() == smooth([2.0 / n for n in range(1, 21)])


@pytest.mark.parametrize(
    ("across", "last", "check"), [("tokens", 2000, 1000), ("epochs", 2.0, 1.0), ("minutes", 10.0, 5.0)]
)
def test_other_figures_stand_across(tmp_path: Path, across: str, last: float, check: float) -> None:
    """Steps become tokens, epochs or minutes, and validations stand where their step does."""
    ax = draw(a_run(tmp_path / "a", EVENTS), across=across, log=False)
    lines = {str(line.get_label()): line.get_xydata().tolist() for line in ax.lines}
    assert lines["train, each step"][-1][0] == pytest.approx(last)
    assert lines["validation"][0] == pytest.approx([check, 0.6])
    assert ax.get_yscale() == "linear"


def test_several_runs_are_told_apart_by_what_differs(tmp_path: Path) -> None:
    """The legend has the differing setting alone; colours and marks differ, for colour-blind readers and grey paper."""
    runs = [a_run(tmp_path / f"r{n}", EVENTS, learning_rate=10.0**-n, batch=8) for n in (2, 3, 4)]
    ax = draw([str(run.path) for run in runs])
    labels = [str(line.get_label()) for line in ax.lines if not str(line.get_label()).startswith("_")]
    assert labels[::2] == [
        f"r{n}: learning_rate {rate}, train" for n, rate in ((2, "0.01"), (3, "0.001"), (4, "0.0001"))
    ]
    drawn = [line for line in ax.lines if str(line.get_label()).endswith("validation")]
    assert len({line.get_color() for line in drawn}) == len({line.get_marker() for line in drawn}) == 3


def test_pictures_are_written_and_what_cannot_be_drawn_is_refused(tmp_path: Path) -> None:
    """A PNG of 1280 x 800; pairs get a panel; no step, an unknown ending or axis: no picture."""
    run = a_run(tmp_path / "a", [{**event, "margin": event["step"] / 10, "ranked": 0.5} for event in EVENTS])
    save_picture(run, tmp_path / "x.png")
    data = (tmp_path / "x.png").read_bytes()
    assert data[:8] == b"\x89PNG\r\n\x1a\n"
    assert (int.from_bytes(data[16:20], "big"), int.from_bytes(data[20:24], "big")) == (1280, 800)
    save_picture(run, tmp_path / "x.svg")
    assert "share ranked right" in (tmp_path / "x.svg").read_text()
    assert draw_figure(run).axes[1].lines[1].get_xydata().tolist() == [[10, 1.0], [20, 2.0]]
    with pytest.raises(InputError, match="at least one step"):
        draw(a_run(tmp_path / "empty", []))
    with pytest.raises(UsageError, match=r"\.pdf"):
        save_picture(run, tmp_path / "x.jpg")
    with pytest.raises(UsageError, match="did you mean 'steps'"):
        draw(run, across="step")


@pytest.mark.parametrize("high", [1.0001, 1.02, 1.4, 2.5, 9.0, 300.0, 1e6])
@pytest.mark.parametrize("low", [3e-3, 0.9, 1.38, 3.05])
def test_any_range_of_losses_has_figures_to_read_by(low: float, high: float) -> None:
    """Four to twelve beside the axis, none outside it; a loss that falls by a third takes half of the height."""
    ax = new_axes()
    ax.set_yscale("log")
    plain_ticks(ax, [0.0, low, low * high])
    bottom, top = ax.get_ylim()
    marks = ax.get_yticks()
    assert bottom <= marks.min() <= marks.max() <= top
    assert (4 if high > 1.1 else 2) <= len(marks) <= 12
    assert bottom < low
    assert low * high < top
    assert high != 1.4 or np.log(high) / np.log(top / bottom) > 0.5


def test_many_points_are_thinned_to_what_can_be_seen() -> None:
    """The extremes of every piece stay, spikes among them; few points stay as they are."""
    x = np.arange(100_000.0)
    y = np.sin(x / 5000)
    y[[777, 50_001]] = 9, -9
    at, values = thinned((x, y))
    assert len(at) <= 3001
    assert {777.0, 50_001.0, 99_999.0} <= set(at)
    assert (values.min(), values.max()) == (-9, 9)
    assert (np.diff(at) >= 0).all()
    assert len(thinned((x[:50], y[:50]))[0]) == 50


@pytest.mark.parametrize(("name", "made"), planted(), ids=lambda value: value if isinstance(value, str) else "")
def test_what_a_curve_was_made_to_show_is_said(name: str, made: Made) -> None:
    """The claim is among what is said, with a number and something to try, and none beside another that says why."""
    said = {found.name: found for found in diagnose(made.log(), made.reason)}
    assert name in said
    assert not ("still falling" in said and {"learning rate too high", "learning rate too low", "flat"} & said.keys())
    assert not ("noisy validation" in said and "learning rate too high" in said)
    assert any(letter.isdigit() for letter in said[name].says)
    assert said[name].todo


@pytest.mark.parametrize("made", healthy(), ids=lambda made: f"seed {made.seed}")
def test_a_healthy_curve_stays_without_comment(made: Made) -> None:
    """Of many lengths and scatters: nothing is said."""
    assert diagnose(made.log(), made.reason) == []


def test_a_claim_holds_its_figures_and_a_running_training_is_not_called_short() -> None:
    """Where validation was lowest and how far it rose, by hand; while at work nothing is said of an end."""
    losses = [1.0 - 0.9 * n / 100 for n in range(100)]
    checks = [(20, 0.8), (40, 0.5), (60, 0.6), (80, 0.7), (100, 0.8)]
    events = [{"event": "step", "step": n + 1, "loss": loss} for n, loss in enumerate(losses)]
    events += [{"event": "validation", "step": step, "validation_loss": loss} for step, loss in checks]
    (found,) = diagnose(RunLog.of_events(events), "done")
    assert found.name == "overfitting"
    assert "lowest, 0.5000, at step 40 and 0.7500 at the end (+50%)" in found.says
    few, long = diagnose(Made(falling(3, 1), falling(3, 1), n_steps=8, n_checks=4, check_seconds=8.0).log(), "done")
    assert str(long).startswith("long validations: 32 of 33 s went into 4 of them; a smaller split.validation")
    slow = Made(lambda t: 3.0 * (1 - 0.2 * t), lambda t: 3.0 * (1 - 0.2 * t), made=0.5)
    assert diagnose(slow.log(), "") == []
    for rise in (0.2, 0.6):
        turned = turning(3.0, 1.0, 0.4, rise)
        said = {found.name: found.says for found in diagnose(Made(turned, turned, noise=1e-3).log(), "done")}
        assert ("learning rate too high" in said) == (rise == 0.6)
    # The last tenth of the steps is all but as high as the last one.
    assert re.search(
        r"rose from 1\.0\d\d at step 1\d\d to 1\.5\d\d at the end \(\+5\d%\)", said["learning rate too high"]
    )
    assert re.match(
        r"few steps: 8 in all, and validation fell to the last, from 1\.5\d* to 1\.0\d*; try more", str(few)
    )
    learned = Made(falling(3, 0.06, 9), falling(3, 0.001, 60), check_noise=0.1, check_rows=40, n_checks=14)
    assert diagnose(learned.log(), "done") == []
    assert diagnose(Made(falling(3, 1), lambda t: 3 + t, n_steps=9, n_checks=3).log(), "done") == []


@pytest.mark.parametrize(
    ("losses", "checks", "says"),
    [
        ([0.0] * 40, [0.0] * 8, []),
        ([1.0] * 20 + [0.0] * 20, [0.5] * 8, [r"memorised: train loss is 0\.0000, validation 0\.500; try"]),
        ([0.0] * 20 + [1.0] * 20, [0.0] * 8, [r"learning .* was 0\.000 at the first step, 1\.000 in"]),
        ([2.0] * 20 + [1.0] * 20, [0.5, 0.0, 0.0, 0.0, 0.0, 0.5, 0.5, 0.5], [r"over.* and 0\.5000 at the end, while"]),
    ],
)
def test_of_a_loss_that_is_nothing_no_share_is_taken(losses: list[float], checks: list[float], says: list[str]) -> None:
    """Of labels that are known by heart it is 0 in float32: what was said stands without what it is divided by."""
    events = [{"event": "step", "step": n, "loss": loss} for n, loss in enumerate(losses, 1)]
    events += [{"event": "validation", "step": 5 * n, "validation_loss": loss} for n, loss in enumerate(checks, 1)]
    found = [str(one) for one in diagnose(RunLog.of_events(events), "done")]
    assert len(found) == len(says)
    assert all(re.match(pattern, one) for pattern, one in zip(says, found, strict=True))


@pytest.mark.parametrize(("level", "checks", "says"), [(50, 1, True), (15, 1, False), (50, 0.3, False)])
def test_batches_far_apart_hide_no_rate_that_is_too_high(level: float, checks: float, says: bool) -> None:
    """Validation doubled where the steps stand above the first; not where they are below it, nor where it did not."""
    losses = [25.0, *(level * (1 + 0.18 * ((n * 7) % 10 - 4.5)) for n in range(49))]
    events = [{"event": "step", "step": n + 1, "loss": loss} for n, loss in enumerate(losses)]
    for step, loss in ((10, 40), (20, 22), (30, 100), (40, 35), (50, 30)):
        events.append({"event": "validation", "step": step, "validation_loss": 30 + checks * (loss - 30)})
    said = [str(found) for found in diagnose(RunLog.of_events(events), "done")]
    assert (
        any(line.startswith("learning rate too high: validation rose from 22.000 to 100.000 at") for line in said)
        is says
    )


def test_rates_stand_with_the_suggested_one(tmp_path: Path) -> None:
    """Every rate with its loss; what is no number is left out; the suggestion is a line."""
    tried = [(1e-3, 3.0, 3.0), (1e-2, 1.0, 2.0), (1e-1, float("nan"), float("nan"))]
    ax = draw_rates(tried, 3e-3, "rates")
    assert ax.lines[1].get_xydata().tolist() == [[1e-3, 3.0], [1e-2, 2.0]]
    assert ax.lines[2].get_label() == "suggested: 3.0e-03"
    save_rates(tried, None, "rates", tmp_path / "r.png")
    assert (tmp_path / "r.png").exists()


def test_the_lengths_stand_with_their_window(tmp_path: Path) -> None:
    """Every example in a bar, those over the window counted, a far window at the edge; a title of any signs."""
    wholes, prompts = [10, 20, 30, 40], [5, 6, 7, 8]
    ax = draw_lengths(wholes, prompts, 30, "a set")
    assert sum(bar.get_height() for bar in ax.containers[0]) == 4
    assert "window 30: 1 of 4 over it" in ax.get_legend_handles_labels()[1]
    far = draw_lengths(wholes, prompts, 2000, "a set")
    assert "window 2000: 0 of 4 over it, far to the right" in far.get_legend_handles_labels()[1]
    assert far.get_xlim()[1] < 60
    save_lengths(wholes, prompts, 30, "$x_{$.csv", tmp_path / "x.svg")
    assert "<svg" in (tmp_path / "x.svg").read_text()
    with pytest.raises(InputError, match="at least one"):
        draw_lengths([], [], 30, "a set")


@pytest.mark.parametrize(
    ("made", "rings"),
    [
        (one, 1)
        for name, one in planted()
        if name == "learning rate too high" and not (one.skipped or one.spikes or one.moved)
    ]
    + [(one, 0) for one in healthy()],
)
def test_an_alarm_rings_once_for_a_rate_too_high_and_never_else(made: Made, rings: int) -> None:
    """Heard step by step, and asked after each."""
    alarm, heard = Alarm(), list[str]()
    for step, loss in zip(*made.log().series("step", "loss"), strict=True):
        alarm.hear(step, loss)
        found = alarm.rings()
        heard += [found.name] if found else []
    assert heard == ["learning rate too high"] * rings
