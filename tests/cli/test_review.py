"""Reviewing rows by hand: keep, drop, edit, back, quit, and going on later."""

from __future__ import annotations

import json
from pathlib import Path

import click
import pytest
from click.testing import CliRunner, Result

import foldkit
from foldkit.cli.review import review
from foldkit.formats import UsageError, read_jsonl


@pytest.fixture
def keys(work_folder: Path, monkeypatch: pytest.MonkeyPatch):  # type: ignore[no-untyped-def]
    """Return a function that reviews with these keys pressed; an edit answers "south"."""

    def edit(text: str, extension: str) -> str:
        return json.dumps({**json.loads(text), "answer": "edited"})

    monkeypatch.setattr(click, "edit", edit)

    def press(pressed: str, *words: str) -> Result:
        left = iter(pressed)
        monkeypatch.setattr(click, "getchar", lambda: next(left))
        return CliRunner().invoke(review, ["--sheet", str(work_folder / "fold.toml"), *words], catch_exceptions=False)

    return press


def test_decisions_are_kept_resumed_and_applied(work_folder: Path, keys) -> None:  # type: ignore[no-untyped-def]
    """A dropped row is set aside by name, an edited one is learned as edited, the source stays as it was."""
    before = (work_folder / "rows.jsonl").read_bytes()
    first = keys("kxdq")
    assert "decisions: 1 keep, 1 drop, 0 edit; 38 rows to go" in first.output
    second = keys("eq")
    assert "row 3" in second.output
    assert "row 1 " not in second.output
    assert "1 keep, 1 drop, 1 edit; 37 rows to go" in second.output
    dataset = foldkit.build(foldkit.read_sheet(work_folder / "fold.toml"))
    assert [(row.row, row.reason) for row in dataset.set_aside] == [(2, "dropped in review")]
    kept = {example.row for part in dataset.parts.values() for example in part}
    assert kept == {1, *range(3, 41)}
    assert (work_folder / "rows.jsonl").read_bytes() == before
    assert [line["choice"] for line in read_jsonl(work_folder / "decisions.jsonl")] == ["keep", "drop", "edit"]
    third = keys("dbkq")
    assert "2 keep, 1 drop, 1 edit" in third.output


def test_keys_without_a_terminal_are_asked_for(work_folder: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    """In words, as a wrong call."""

    def fail() -> str:
        raise OSError(6, "No such device or address", "/dev/tty")

    monkeypatch.setattr(click, "getchar", fail)
    with pytest.raises(UsageError, match="keys: input: expected a terminal"):
        CliRunner().invoke(review, ["--sheet", str(work_folder / "fold.toml")], catch_exceptions=False)


def test_a_decision_on_a_row_that_changed_is_passed_over(work_folder: Path, keys) -> None:  # type: ignore[no-untyped-def]
    """And one on a row that moved follows it; only odd rows can be asked for."""
    keys("dq")
    rows = work_folder / "rows.jsonl"
    lines = rows.read_text().splitlines()
    rows.write_text("\n".join([*lines[1:], lines[0]]) + "\n")
    sheet = foldkit.read_sheet(work_folder / "fold.toml")
    assert [row.row for row in foldkit.build(sheet).set_aside] == [40]
    rows.write_text("\n".join([*lines[1:], lines[0].replace("west", "WEST")]) + "\n")
    assert foldkit.build(sheet).set_aside == ()
    assert "0 rows to go" in keys("", "--only-odd").output
