"""Smoothing by hand, and a drawing that shows what the log holds."""

from __future__ import annotations

from pathlib import Path

import pytest

from foldkit.curves import draw, draw_lengths, draw_rates, save_lengths, save_picture, save_rates, smooth
from foldkit.curves.drawing import draw_pairs
from foldkit.formats import InputError
from foldkit.runs import RunLog

LOG = RunLog(
    tuple({"event": "step", "step": step, "loss": 4.0 / step} for step in range(1, 21))
    + tuple({"event": "validation", "step": step, "validation_loss": loss} for step, loss in ((10, 0.6), (20, 0.9)))
)


def test_smoothing_is_the_corrected_moving_average() -> None:
    """By hand for weight 1/2; a constant stays itself; the weight has a range."""
    assert smooth([1.0, 3.0, 2.0], 0.5) == pytest.approx([1.0, (0.5 + 3.0) / 1.5, (0.25 + 1.5 + 2.0) / 1.75])
    assert smooth([2.0] * 9) == pytest.approx([2.0] * 9)
    assert smooth([]) == []
    with pytest.raises(ValueError, match="less than 1"):
        smooth([1.0], 1.0)


def test_the_drawing_holds_the_log() -> None:
    """Raw and smoothed train loss, validation with its best marked."""
    ax = draw(LOG, "a run")
    lines = {str(line.get_label()): line.get_xydata().tolist() for line in ax.lines}
    assert lines["train, each step"] == [[step, 4.0 / step] for step in range(1, 21)]
    assert [point[1] for point in lines["train, smoothed"]] == smooth([4.0 / step for step in range(1, 21)])
    assert lines["validation"] == [[10, 0.6], [20, 0.9]]
    assert [text.get_text() for text in ax.texts] == ["best 0.6000 at step 10"]
    assert draw(LOG, "again", ax) is ax


def test_pictures_are_written_and_empty_logs_refused(tmp_path: Path) -> None:
    """A PNG of 1280 x 800; no step, no picture."""
    save_picture(LOG, "a run", tmp_path / "x.png")
    data = (tmp_path / "x.png").read_bytes()
    assert data[:8] == b"\x89PNG\r\n\x1a\n"
    assert (int.from_bytes(data[16:20], "big"), int.from_bytes(data[20:24], "big")) == (1280, 800)
    with pytest.raises(InputError, match="at least one step"):
        draw(RunLog(()), "empty")


def test_pairs_get_a_drawing_of_their_own_below(tmp_path: Path) -> None:
    """Margin on the left and share ranked right on the right, validation as marks; one picture of both."""
    log = RunLog(tuple({**event, "margin": event["step"] / 10, "ranked": 0.5} for event in LOG.events))
    left = draw_pairs(log, draw(LOG, "above").figure.add_subplot())
    assert left.lines[1].get_xydata().tolist() == [[10, 1.0], [20, 2.0]]
    save_picture(log, "a run", tmp_path / "x.svg")
    assert "share ranked right" in (tmp_path / "x.svg").read_text()


def test_rates_stand_with_the_suggested_one(tmp_path: Path) -> None:
    """Every rate with its loss; what is no number is left out; the suggestion is a line."""
    tried = [(1e-3, 3.0, 3.0), (1e-2, 1.0, 2.0), (1e-1, float("nan"), float("nan"))]
    ax = draw_rates(tried, 3e-3, "rates")
    assert ax.lines[1].get_xydata().tolist() == [[1e-3, 3.0], [1e-2, 2.0]]
    assert ax.lines[2].get_label() == "suggested: 3.0e-03"
    save_rates(tried, None, "rates", tmp_path / "r.png")
    assert (tmp_path / "r.png").exists()


def test_the_lengths_stand_with_their_window(tmp_path: Path) -> None:
    """Every example in a bar, those over the window counted, a far window named at the edge; none is an error."""
    wholes, prompts = [10, 20, 30, 40], [5, 6, 7, 8]
    ax = draw_lengths(wholes, prompts, 30, "a set")
    assert sum(bar.get_height() for bar in ax.containers[0]) == 4
    assert "window 30: 1 of 4 over it" in ax.get_legend_handles_labels()[1]
    far = draw_lengths(wholes, prompts, 2000, "a set")
    assert "window 2000: 0 of 4 over it, far to the right" in far.get_legend_handles_labels()[1]
    assert far.get_xlim()[1] < 60
    save_lengths(wholes, prompts, 30, "a set", tmp_path / "x.svg")
    assert "<svg" in (tmp_path / "x.svg").read_text()
    with pytest.raises(InputError, match="at least one"):
        draw_lengths([], [], 30, "a set")
