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


def test_copies_of_a_row_are_decided_on_one_by_one(work_folder: Path, keys) -> None:  # type: ignore[no-untyped-def]
    """A dropped copy leaves the first one, and what is left when a copy is taken out of the source."""
    rows = work_folder / "rows.jsonl"
    lines = rows.read_text().splitlines()
    rows.write_text("\n".join([*lines[:2], lines[0], *lines[2:], lines[0]]) + "\n")
    assert "row 3 " in keys("dq", "--only-odd").output
    sheet = foldkit.read_sheet(work_folder / "fold.toml")
    assert [row.row for row in foldkit.build(sheet).set_aside] == [3]
    rows.write_text("\n".join(lines) + "\n")
    assert foldkit.build(sheet).set_aside == ()


def test_an_edit_that_cannot_be_kept_is_not_lost(work_folder: Path, keys, monkeypatch: pytest.MonkeyPatch) -> None:  # type: ignore[no-untyped-def]
    """It says why, and the editor opens it again; a damaged file of decisions is named."""
    opened: list[str] = []
    half = '{"question": "wind?", "answer": "\\ud800"}'
    typed = iter(["half a row", half, '{"question": "wind?"}', '{"question": "wind?", "answer": null}'])

    def edit(text: str, extension: str) -> str:
        opened.append(text)
        return next(typed, "")

    monkeypatch.setattr(click, "edit", edit)
    output = keys("eeeeeq").output
    assert opened[1:] == ["half a row", half, '{"question": "wind?"}', '{"question": "wind?", "answer": null}']
    assert (output.count("not kept: expected JSON"), output.count("a text for each of question, answer")) == (2, 3)
    assert "0 edit; 40 rows to go" in output
    (work_folder / "decisions.jsonl").write_text('{"row": 1, "choice": "drop"}\n')
    with pytest.raises(UsageError, match=r"decisions.jsonl, decision 1: mark: expected a value"):
        keys("q")


def test_keys_without_a_terminal_are_asked_for(work_folder: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    """In words, as a wrong call."""

    def fail() -> str:
        raise OSError(6, "No such device or address", "/dev/tty")

    monkeypatch.setattr(click, "getchar", fail)
    with pytest.raises(UsageError, match="keys: input: expected a terminal"):
        CliRunner().invoke(review, ["--sheet", str(work_folder / "fold.toml")], catch_exceptions=False)


def test_a_decision_on_a_row_that_changed_is_passed_over(work_folder: Path, keys) -> None:  # type: ignore[no-untyped-def]
    """And said to be; one on a row that moved, or beside which another has one more column, follows it."""
    keys("dq")
    rows = work_folder / "rows.jsonl"
    lines = rows.read_text().splitlines()
    sheet = foldkit.read_sheet(work_folder / "fold.toml")
    more = {**json.loads(lines[1]), "context": "spring tide"}
    rows.write_text("\n".join([json.dumps(more), *lines[2:], lines[0]]) + "\n")
    moved = foldkit.build(sheet)
    assert ([row.row for row in moved.set_aside], moved.unused) == ([40], ("context",))
    rows.write_text("\n".join([*lines[1:], lines[0].replace("west", "WEST")]) + "\n")
    changed = foldkit.build(sheet)
    assert changed.set_aside == ()
    assert changed.notes == ("decisions not applied, for their rows are no longer as they were: row 1",)
    assert "0 rows to go" in keys("", "--only-odd").output
