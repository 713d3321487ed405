"""CSV and JSON lines to a table, and what is seen in it."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path

import pytest

from foldkit.formats import InputError
from foldkit.rows import read_rows, summarise
from foldkit.rows.reading import column

Write = Callable[[str, str], Path]


def test_csv_and_json_lines_give_the_same_table(write: Write) -> None:
    """Every cell as text, blanks as empty text, rows numbered from 1, quoted line ends and odd separators kept."""
    csv_file = write("a.csv", 'a,b\n 1 ,"x, \u2028y\nz"\n,é\n')
    jsonl = write("a.jsonl", '{"a": 1, "b": "x, \\u2028y\\nz"}\n{"a": null, "b": "é"}\n')
    first, second = read_rows(csv_file), read_rows(jsonl)
    assert first.equals(second)
    assert first.to_dict("list") == {"a": ["1", ""], "b": ["x, \u2028y\nz", "é"]}
    assert list(first.index) == [1, 2]
    assert read_rows(csv_file, strip=False).loc[1, "a"] == " 1 "


@pytest.mark.parametrize(
    ("name", "text", "said"),
    [
        ("a.csv", "", "an empty file"),
        ("a.csv", "a,b\n", "at least one row"),
        ("a.csv", "a,b\n1,2\n1,2,3\n", r"row 2: row: expected 2 cells, found '3 cells'"),
        ("a.csv", 'a,b\n1,"2\n', "CSV"),
        ("a.csv", "a,a\n1,2\n", "every column once"),
        ("a.jsonl", '{"a": 1}\n{"a": [1]}\n', "row 2: column a"),
        ("a.jsonl", '{"a": 1}\nnope\n', "line 2"),
        ("a.xlsx", "x", r".csv or .jsonl"),
    ],
)
def test_bad_files_are_refused_by_place(write: Write, name: str, text: str, said: str) -> None:
    """File and row or line, what was expected, what was found."""
    with pytest.raises(InputError, match=said):
        read_rows(write(name, text))


def test_a_wrong_column_gets_the_near_name(write: Write) -> None:
    """And a right one comes back."""
    table = read_rows(write("a.csv", "note,bulletin\nx,y\n"))
    assert list(column(table, "note", "here")) == ["x"]
    with pytest.raises(InputError, match="did you mean 'bulletin'"):
        column(table, "buletin", "here")


def test_what_is_odd_in_the_rows_is_seen(write: Write) -> None:
    """Blanks, stray numbers, lengths, and duplicates apart from the id."""
    lines = [f"{i},note {i}" for i in range(20)]
    lines += ["20,1013", "21,", "22,note 3"]
    summary = summarise(read_rows(write("a.csv", "id,note\n" + "\n".join(lines) + "\n")))
    note = summary.columns[1]
    assert (summary.n_rows, note.n_blank, note.n_numbers, note.longest) == (23, 1, 1, 7)
    assert summary.duplicates == (23,)
    assert summary.odd_cells == ["column note: 1 cell with only a number where the rest is text"]
