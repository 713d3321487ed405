"""Shared by the tests of work: trainings without their pictures."""

from __future__ import annotations

import pytest


@pytest.fixture(autouse=True)
def no_pictures(monkeypatch: pytest.MonkeyPatch) -> None:
    """Draw nothing at the end of a training: it takes as long as so short a training, and has tests of its own."""
    monkeypatch.setattr("foldkit.curves.save_picture", lambda *_: None)
