"""JSON lines, TOML, settings, writing aside, fingerprints, and the form of errors."""

from __future__ import annotations

import math
import os
import stat
from collections.abc import Callable
from dataclasses import dataclass
from pathlib import Path

import pandas as pd
import pytest
import torch
from matplotlib.figure import Figure

import foldkit.formats.atomic
from foldkit.formats import (
    InputError,
    UsageError,
    all_kept,
    append_jsonl,
    fingerprint_files,
    fingerprint_value,
    keep,
    near_name,
    read_json,
    read_jsonl,
    read_messages,
    read_settings,
    read_toml,
    write_aside,
    write_jsonl,
)
from foldkit.formats.jsonl import readable_objects
from foldkit.formats.pictures import write_picture
from foldkit.formats.settings import within
from foldkit.formats.tables import write_table
from foldkit.models.sealed import write_sealed
from tests.room import little_room

Write = Callable[[str, str], Path]


def test_json_lines_come_back_as_they_were_written(tmp_path: Path) -> None:
    """Written whole, appended to, and read with a half-written last line, which spoils no other one."""
    path = tmp_path / "a.jsonl"
    write_jsonl(path, [{"a": 1}, {"b": "é\n"}])
    append_jsonl(path, {"c": None})
    whole = [{"a": 1}, {"b": "é\n"}, {"c": None}]
    assert read_jsonl(path) == whole
    with path.open("a") as file:
        file.write('{"d": 1')
    assert read_jsonl(path, tolerate_half_line=True) == whole
    append_jsonl(path, {"e": 2})
    assert path.read_text().splitlines()[3:] == ['{"d": 1', '{"e": 2}']
    with pytest.raises(InputError, match="line 4"):
        read_jsonl(path)


@pytest.mark.parametrize(
    ("text", "said"),
    [
        ('{"a": 1}\n[1]\n', "line 2: line: expected a JSON object"),
        ('\n{"a": }\n', "line 2"),
        ("7", "line 1"),
        ('{"a": "\\ud83d"}', "line 1: .*half of"),
    ],
)
def test_a_bad_json_line_is_named(write: Write, text: str, said: str) -> None:
    """The line's number and what was found."""
    with pytest.raises(InputError, match=said):
        read_jsonl(write("a.jsonl", text))


def test_half_a_character_is_no_text() -> None:
    """In a list of messages it makes none, among objects it is passed over; both halves together are a character."""
    half, whole = '[{"role": "user", "content": "\\ud83d"}]', '[{"role": "user", "content": "\\ud83c\\udf0a"}]'
    assert read_messages(half, {}) is None
    assert [message[:3] for message in read_messages(whole, {}) or ()] == [("user", "🌊", False)]
    assert list(readable_objects([b'{"a": "\\ud83d"}\n', b'{"a": 1}\n'])) == [{"a": 1}]


def test_what_is_kept_is_as_it_was_written(tmp_path: Path) -> None:
    """Values in order; a line that was changed, and half of one, are passed over, also when more is kept."""
    path = tmp_path / "kept.jsonl"
    assert all_kept(path) == []
    values = [["a", 0.1], {"é": None, "nan": [1e300]}, ["b", 2]]
    for value in values:
        keep(path, value)
    assert all_kept(path) == values
    path.write_text(path.read_text().replace('["a", 0.1]', '["a", 0.2]') + "7\n" + '{"kept": 1, "fing')
    assert all_kept(path) == values[1:]
    keep(path, values[0])
    assert all_kept(path) == [*values[1:], values[0]]


def test_unreadable_files_are_named(tmp_path: Path, write: Write) -> None:
    """Missing, a folder, in another encoding, not TOML, no JSON object; one to write whose folder is not there."""
    with pytest.raises(InputError, match=r"none.toml: file: expected an existing file"):
        read_toml(tmp_path / "none.toml")
    with pytest.raises(InputError, match="readable file"):
        read_toml(tmp_path)
    (tmp_path / "latin.toml").write_bytes(b'a = "\xe9"')
    with pytest.raises(InputError, match="byte 5: encoding: expected UTF-8, found '0xe9'"):
        read_toml(tmp_path / "latin.toml")
    with pytest.raises(InputError, match="line 2"):
        read_toml(write("bad.toml", "a = 1\nb =\n"))
    for text, said in (("{", "Expecting"), ("[1]", "found 'list'; mend it")):
        with pytest.raises(InputError, match=said):
            read_json(write("bad.json", text), "mend it")
    with pytest.raises(OSError, match=r"none/a\.txt'$"):
        write_aside(tmp_path / "none" / "a.txt", "")


def test_writing_aside_leaves_the_old_file_when_it_fails(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    """A failure before the rename changes nothing and leaves no scraps."""
    path = tmp_path / "a.txt"
    write_aside(path, "old")

    def fail(*_: object) -> None:
        raise OSError("no room")

    monkeypatch.setattr(foldkit.formats.atomic.os, "replace", fail)
    with pytest.raises(OSError, match="no room"):
        write_aside(path, "new")
    assert path.read_text() == "old"
    assert list(tmp_path.iterdir()) == [path]


@pytest.mark.parametrize(
    ("name", "made"),
    [
        ("a.txt", lambda path, n: write_aside(path, "x" * n)),
        ("a.csv", lambda path, n: write_table(path, pd.DataFrame({"a": ["x" * n]}))),
        ("a.parquet", lambda path, n: write_table(path, pd.DataFrame({"a": list(range(n))}))),
        ("a.svg", lambda path, n: write_picture(path, Figure(figsize=(1, n / 100)))),
    ],
)
def test_without_room_what_was_there_stays_and_is_named(
    tmp_path: Path, name: str, made: Callable[[Path, int], None]
) -> None:
    """Whoever writes it, a library too: the system's words, the file's own name, and no scraps."""
    path = tmp_path / name
    made(path, 100)
    before = path.read_bytes()
    with little_room(200), pytest.raises(OSError, match=f"File too large: '{path}'"):
        made(path, 10_000)
    assert path.read_bytes() == before
    assert list(tmp_path.iterdir()) == [path]
    with little_room(200), pytest.raises(OSError, match=r"File too large: '.*lines'"):
        append_jsonl(tmp_path / "lines", {"a": "x" * 1000})


@pytest.mark.parametrize(("umask", "rights"), [(0o077, 0o600), (0o022, 0o644), (0o002, 0o664)])
def test_who_may_read_what_is_written_is_as_the_user_has_it(tmp_path: Path, umask: int, rights: int) -> None:
    """For files of our own writing as of a library's, which makes its own file and renames it."""
    before = os.umask(umask)
    try:
        write_aside(tmp_path / "a", "")
        write_sealed(tmp_path / "b", {"a": torch.zeros(1)}, {})
    finally:
        os.umask(before)
    assert [stat.S_IMODE(path.stat().st_mode) for path in tmp_path.iterdir()] == [rights] * 2


def test_fingerprints_tell_contents_apart(tmp_path: Path, write: Write) -> None:
    """Same contents, same fingerprint; key order does not matter, a changed byte does."""
    first, second = write("a", "x"), write("b", "y")
    before = fingerprint_files([first, second])
    assert fingerprint_files([second, first]) == before
    second.write_text("z")
    assert fingerprint_files([first, second]) != before
    assert fingerprint_value({"a": 1, "b": [2]}) == fingerprint_value({"b": [2], "a": 1})
    assert fingerprint_value({"a": 1}) != fingerprint_value({"a": 2})


@dataclass(frozen=True)
class Inner:
    """Nested settings."""

    n: int = 1


@dataclass(frozen=True)
class Outer:
    """Settings of every type that sheets use."""

    name: str
    rate: float = 0.5
    on: bool = False
    inner: tuple[Inner, ...] = ()
    only: dict[str, str] | None = None


def test_settings_are_built_with_their_types() -> None:
    """Whole numbers become floats, lists tuples, mappings nested settings."""
    made = read_settings(Outer, {"name": "x", "rate": 1, "inner": [{"n": 3}, {}], "only": {"a": "b"}}, "[x]")
    assert made == Outer("x", 1.0, False, (Inner(3), Inner(1)), {"a": "b"})
    assert isinstance(made.rate, float)


@pytest.mark.parametrize(
    ("values", "said"),
    [
        ({"name": "x", "rat": 1}, "did you mean 'rate'"),
        ({"rate": 1}, "name: expected a value"),
        ({"name": 3}, "name: expected text, found 3"),
        ({"name": "x", "rate": "fast"}, "rate: expected a number, found 'fast'; change"),
        ({"name": "x", "rate": ".5"}, "rate: expected a number, found '.5'; write 0.5"),
        ({"name": "x", "rate": True}, "rate: expected a number, found True"),
        ({"name": "x", "on": 1}, "on: expected true or false"),
        ({"name": "x", "inner": [{"m": 1}]}, r"inner\[0\]"),
        ({"name": "x", "only": 3}, "only: expected a table"),
        ({"name": "x", "only": {"a": 3}}, "only.a: expected text, found 3"),
    ],
)
def test_wrong_settings_are_refused_by_name(values: dict[str, object], said: str) -> None:
    """The setting, what was allowed, what arrived."""
    with pytest.raises(UsageError, match=said):
        read_settings(Outer, values, "[x]")


@pytest.mark.parametrize("value", [-0.1, 1.1, math.nan, math.inf])
def test_ranges_refuse_what_is_not_within(value: float) -> None:
    """Not-a-number too."""
    within(0.5, 0, 1, "[x]", "share")
    with pytest.raises(UsageError, match="0 to 1"):
        within(value, 0, 1, "[x]", "share")


def test_a_near_name_is_suggested_or_all_are_listed() -> None:
    """One near name, or the list."""
    assert near_name("epoch", ["epochs", "batch"]) == "did you mean 'epochs'?"
    assert near_name("zzz", ["epochs", "batch"]) == "known: batch, epochs"
    assert near_name("zzz", map(str, range(1000, 2500))).endswith(", 1038, 1039 and 1,460 more")
    assert near_name("none", []) == "known: none"
