"""Shared by the tests of work: trainings and scorings without their pictures."""

from __future__ import annotations

import pytest


@pytest.fixture(autouse=True)
def no_pictures(monkeypatch: pytest.MonkeyPatch) -> None:
    """Draw nothing at the end: it takes as long as so short a training or scoring, and has tests of its own."""
    monkeypatch.setattr("foldkit.curves.save_picture", lambda *_: None)
    monkeypatch.setattr("foldkit.work.scorecard_files.save_scorecard", lambda *_: None)
