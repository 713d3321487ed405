"""Shared by the tests of work: trainings and scorings are without their pictures."""

from __future__ import annotations

import pytest


@pytest.fixture(autouse=True)
def always_without_pictures(no_pictures: None) -> None:
    """Draw none; a test that wants one undoes it."""
