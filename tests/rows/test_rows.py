"""Every kind of file to the same table; what is bad is named or set aside; what is odd is seen."""

from __future__ import annotations

import dataclasses
import datetime
import gzip
import json
import random
from collections.abc import Callable
from pathlib import Path

import pandas as pd
import pyarrow as pa
import pyarrow.feather
import pyarrow.parquet
import pytest

from foldkit.formats import FoldKitError, InputError, UsageError
from foldkit.rows import (
    READERS,
    AskedRows,
    RowsSettings,
    column,
    found_reading,
    read_rows,
    recognise,
    stream_rows,
    summarise,
    text_paths,
)
from foldkit.rows.shapes import ChoicesSettings

Write = Callable[[str, str], Path]
ROWS = [{"a": "1", "b": "x, \u2028y\nz"}, {"a": "", "b": "é"}, {"a": "2.5", "b": "日本 👩‍🚀"}]


def table(path: Path, **settings: object) -> pd.DataFrame:
    return read_rows(RowsSettings(path.name, **settings), path.parent).table  # type: ignore[arg-type]


def write_kind(folder: Path, ending: str) -> Path:
    """Write ROWS as a file of that ending."""
    path = folder / f"a{ending}"
    typed = [{"a": 1, "b": ROWS[0]["b"]}, {"a": None, "b": "é"}, {"a": 2.5, "b": ROWS[2]["b"]}]
    texts = {name: [row[name] for row in ROWS] for name in ("a", "b")}
    if ending in (".csv", ".tsv", ".tab"):
        pd.DataFrame(texts).to_csv(path, index=False, sep="," if ending == ".csv" else "\t")
    elif ending == ".json":
        path.write_text(json.dumps(typed))
    elif ending in (".jsonl", ".ndjson"):
        path.write_text("\n\n".join(json.dumps(row) for row in typed), encoding="utf-8")
    elif ending == ".parquet":
        pa.parquet.write_table(pa.table(texts), path)
    elif ending == ".feather":
        pa.feather.write_feather(pa.table(texts), path)
    else:
        with pa.ipc.new_stream(path, pa.table(texts).schema) as writer:
            writer.write_table(pa.table(texts))
    return path


TABLES = [ending for ending in READERS if ending not in (".txt", ".md")]


@pytest.mark.parametrize("ending", TABLES)
@pytest.mark.parametrize("packed", [False, True])
def test_every_kind_of_file_gives_the_same_table(tmp_path: Path, ending: str, packed: bool) -> None:
    """Every cell as text, blanks as empty text, odd separators kept, rows from 1; gzip of any."""
    path = write_kind(tmp_path, ending)
    if packed:
        path = path.rename(path.with_name(f"plain{ending}"))
        (tmp_path / f"b{ending}.gz").write_bytes(gzip.compress(path.read_bytes()))
        path = tmp_path / f"b{ending}.gz"
    found = table(path)
    assert found.to_dict("records") == ROWS
    assert list(found.index) == [1, 2, 3]


def test_cells_of_bytes_are_the_text_that_they_hold(tmp_path: Path) -> None:
    """In lists too; what is no text, as a picture, is blank."""
    day = datetime.date(2026, 3, 14)
    columns = {
        "note": ["Böe".encode(), b""],
        "sky": [b"\x89PNG\xff", None],
        "said": [[b"W 3"], [b"\xff"]],
        "day": [day, None],
    }
    pa.parquet.write_table(pa.table(columns), tmp_path / "a.parquet")
    assert table(tmp_path / "a.parquet").to_dict("records") == [
        {"note": "Böe", "sky": "", "said": '["W 3"]', "day": "2026-03-14"},
        {"note": "", "sky": "", "said": '[""]', "day": ""},
    ]


def test_tables_of_text_in_other_forms(tmp_path: Path, write: Write) -> None:
    """Another delimiter and encoding, no header, cells not stripped, columns renamed."""
    (tmp_path / "a.csv").write_bytes("Notiz;Wind\n Böe ;5\n".encode("latin-1"))
    found = table(tmp_path / "a.csv", delimiter=";", encoding="latin-1", columns={"note": "Notiz"})
    assert found.to_dict("records") == [{"note": "Böe", "Wind": "5"}]
    bare = table(write("b.csv", "x,y\n z ,w\n"), header=False, strip=False)
    unnamed = table(write("c.csv", ",x\n0,y\n"))
    assert unnamed.to_dict("records") == [{"column_1": "0", "x": "y"}]
    assert bare.to_dict("records") == [{"column_1": "x", "column_2": "y"}, {"column_1": " z ", "column_2": "w"}]


def test_json_under_a_path_of_keys_and_nested_cells(write: Write) -> None:
    """The path is followed; lists become JSON text, truth values words; columns may differ by row; lines too."""
    lines = write("lines.json", '{"n": 1}\n\n{"m": [2]}\n')
    assert table(lines).to_dict("records") == [{"n": "1", "m": ""}, {"n": "", "m": "[2]"}]
    path = write("a.json", '{"data": {"items": [{"m": [{"role": "user"}], "ok": true}, {"n": 1}]}}')
    assert table(path, key="data.items").to_dict("records") == [
        {"m": '[{"role": "user"}]', "ok": "true", "n": ""},
        {"m": "", "ok": "", "n": "1"},
    ]
    for wrong, said in (("dta", "did you mean 'data'"), ("data.items.m", "key 'm' of .* expected a key of the file")):
        with pytest.raises(InputError, match=said):
            table(path, key=wrong)


def test_texts_in_objects_and_lists_are_columns_by_their_path(write: Write) -> None:
    """JSON in a cell of a table is opened too; blank in rows that have none, and refused where no row has one."""
    rows = [{"about": {"sea": [f"calm {i}", "slight"], "n": i}} if i % 3 else {"about": None} for i in range(6)]
    path = write("a.jsonl", "\n".join(map(json.dumps, rows)))
    found = table(path, columns={"sea": "about.sea.0", "n": "about.n"})
    assert list(found["sea"]) == ["", "calm 1", "calm 2", "", "calm 4", "calm 5"]
    assert list(found["n"]) == ["", "1", "2", "", "4", "5"]
    settings = RowsSettings(path.name, columns={"sea": "about.sea.0"})
    streamed = [cell for piece in stream_rows(settings, path.parent, 1) for cell in piece.table["sea"]]
    assert streamed == list(found["sea"])
    cells = write("b.csv", 'about\n"{""sea"": [""calm""]}"\nrough\n')
    assert list(table(cells, columns={"sea": "about.sea.0"})["sea"]) == ["calm", ""]
    assert text_paths("about", list(found["about"])) == ["about.sea.0"]
    dotted = [{"a": "no", "a.b": {"sea": f"calm {i}", "x.y": {"far": "no path"}}} for i in range(3)]
    held = table(write("c.jsonl", "\n".join(map(json.dumps, dotted))), columns={"sea": "a.b.sea"})
    assert list(held["sea"]) == ["calm 0", "calm 1", "calm 2"]
    assert text_paths("a.b", [row["a.b"] for row in dotted]) == ["a.b.sea"]
    for wrong, hint in (("about.seas.0", "did you mean 'about.sea.0'"), ("about.sea.2", "did"), ("abuot.sea", "did")):
        with pytest.raises(InputError, match=hint):
            table(path, columns={"sea": wrong})


def test_questions_are_read_as_the_rows_of_a_training(write: Write) -> None:
    """Slots under their own names or those of the training's files, choices lettered once, what is missing left so."""
    sheet = RowsSettings("x", strip=False, columns={"question": "Frage", "answer": "said.0", "options": "data.options"})
    asked = AskedRows.of(dataclasses.replace(sheet, choices=ChoicesSettings(("options",))))
    assert asked == AskedRows(False, dict(sheet.columns), ("options",))
    slots = ("question", "choices")
    theirs = {"Frage": " sea?", "data": {"options": ["calm", "rough"]}, "question": "no"}
    found = asked.read(str(write("a.jsonl", json.dumps(theirs))), slots)
    assert found[[*slots]].to_dict("records") == [{"question": " sea?", "choices": "A. calm\nB. rough"}]
    assert asked.used(list(found)) == {"Frage", "data"}
    said = {"data": {"calm": True, "sea": " rough "}}
    path, columns = write("d.jsonl", json.dumps(said)), {"calm": "data.calm", "sea": "data.sea"}
    trained = table(path, columns=columns)[[*columns]].to_dict("records")
    assert trained == AskedRows(columns=columns).read(str(path), tuple(columns))[[*columns]].to_dict("records")
    ours = {"question": "sea?", "choices": "A. calm\nB. rough"}
    path = write("b.jsonl", json.dumps(ours))
    assert asked.read(str(path), slots).to_dict("records") == [ours]
    assert AskedRows(choices=("choices",)).read(str(path), slots).to_dict("records") == [ours]
    lines = AskedRows(choices=("choices",)).read(str(write("c.csv", 'choices\n"calm\nrough"\n')), slots)
    assert lines.to_dict("records") == [{"choices": ours["choices"]}]


@pytest.mark.parametrize(
    ("unit", "expected"),
    [
        ("file", ["# One\nfirst\n\nsecond\n## Two\n```\n# no heading\n```"]),
        ("paragraph", ["# One\nfirst", "second\n## Two\n```\n# no heading\n```"]),
        ("heading", ["first\n\nsecond", "```\n# no heading\n```"]),
        ("line", ["# One", "first", "second", "## Two", "```", "# no heading", "```"]),
    ],
)
def test_prose_in_units(write: Write, unit: str, expected: list[str]) -> None:
    """A row is a file, a paragraph, a section, or a line; a fenced line is no heading."""
    path = write("a.md", "# One\nfirst\n\nsecond\n## Two\n```\n# no heading\n```\n")
    found = table(path, unit=unit)
    assert list(found["text"]) == expected
    if unit == "heading":
        assert list(found["heading"]) == ["One", "Two"]


@pytest.mark.parametrize(
    ("line", "time"),
    [
        ("[2031-03-04 18:00:05] {}: {}", "2031-03-04 18:00:05"),
        ("4/3/31, 18:00 - {}: {}", "4/3/31, 18:00"),
        ("18:00:05 {}: {}", "18:00:05"),
        ("{}: {}", None),
    ],
)
def test_lines_that_say_who_speaks(write: Write, line: str, time: str | None) -> None:
    """Their parts are cells; a line that says nothing of it goes on with the one before."""
    said = [("Low Pell", "sea: rough"), ("desk", "And the glass?\n\nIs it falling"), ("Low Pell", "falling")] * 3
    path = write("talk.txt", "\n".join(line.format(*one) for one in said).replace("\n", "\r\n"))
    pattern = found_reading(RowsSettings(path.name), path.parent).pattern
    cells = [{"time": time, "speaker": name, "text": text, "file": "talk.txt"} for name, text in said]
    assert table(path, pattern=pattern).to_dict("records") == [
        {name: cell for name, cell in row.items() if cell is not None} for row in cells
    ]
    after = write("after.txt", "Of the third.\n" + path.read_text())
    assert found_reading(RowsSettings(after.name), after.parent).pattern == ""
    with pytest.raises(InputError, match=r"after.txt, line 1: line: expected one that pattern in \[rows\] matches"):
        table(after, pattern=pattern)
    assert len(table(after, pattern=pattern, on_bad="set aside")) == len(said)


def test_other_lines_say_nothing_of_who_speaks(write: Write) -> None:
    """Prose, names that come once, one name alone, questions with their answers by paragraphs; tables."""
    alone, asked = "Desk: sea calm\n" * 9, "Q: sea?\nA: calm\n\n" * 9
    names = "".join(f"Keeper {chr(65 + i)}: calm\n" for i in range(26))
    for name, text in (("a.txt", "The sea is calm.\n" * 9), ("a.txt", alone), ("a.txt", asked), ("a.txt", names)):
        path = write(name, text)
        assert found_reading(RowsSettings(path.name), path.parent).pattern == ""
    path = write("a.csv", "Odda: sea\ndesk: calm\n" * 9)
    assert found_reading(RowsSettings(path.name), path.parent).pattern == ""
    for wrong, said in (("(", "a regular expression"), ("a.*", "named groups")):
        with pytest.raises(UsageError, match=rf"pattern: expected {said}"):
            RowsSettings("a.txt", pattern=wrong)


def test_folders_and_globs_in_the_order_of_names(tmp_path: Path) -> None:
    """Numbers go on over the files; other kinds in a folder and hidden ones are passed over; none is an error."""
    names = {"b.csv": "second", "a.jsonl": "first", "sub/c.csv": "third", "d.bin": "x", ".e/f.csv": "y"}
    for name, word in names.items():
        path = tmp_path / name
        path.parent.mkdir(exist_ok=True)
        path.write_text(f'{{"w": "{word}"}}' if name.endswith("l") else f"w\n{word}\n")
    whole = read_rows(RowsSettings("."), tmp_path).table
    assert whole["w"].to_dict() == {1: "first", 2: "second", 3: "third"}
    assert list(read_rows(RowsSettings("*.csv"), tmp_path).table["w"]) == ["second"]
    with pytest.raises(InputError, match=r"files ending in .csv"):
        read_rows(RowsSettings("*.parquet"), tmp_path)
    assert list(read_rows(RowsSettings("*", as_text=(".bin",)), tmp_path).table["text"])[-1] == "w\nx"
    assert list(read_rows(RowsSettings(".", as_text=(".bin", ".csv"), unit="file"), tmp_path).table["text"]) == [
        "w\nsecond",
        "w\nx",
        "w\nthird",
    ]
    with pytest.raises(InputError, match=r"files ending in .py, found '1 × .jsonl, 2 × .csv, 1 × .bin'"):
        read_rows(RowsSettings(".", as_text=(".py",)), tmp_path)
    with pytest.raises(
        InputError, match=r"found '.bin'; export the rows .* or name endings of plain text with as_text"
    ):
        read_rows(RowsSettings("d.bin"), tmp_path)
    for wrong in ("py", ".PY", ".a/b"):
        with pytest.raises(UsageError, match="as_text"):
            RowsSettings(".", as_text=(wrong,))


def test_streaming_gives_the_same_rows_in_pieces(write: Write) -> None:
    """In order, with the same numbers."""
    path = write("a.csv", "n\n" + "".join(f"{i}\n" for i in range(1, 101)))
    pieces = list(stream_rows(RowsSettings("a.csv"), path.parent, 30))
    assert [len(piece.table) for piece in pieces] == [30, 30, 30, 10]
    assert pd.concat([piece.table for piece in pieces]).equals(table(path))


def test_what_only_some_rows_have_is_blank_in_the_other_pieces(write: Write) -> None:
    """A column that is named in the settings or needed; one that no row has is refused, or left out."""
    path = write(
        "a.jsonl",
        "".join(json.dumps({"n": i} | ({"why": "fog", "by": "x"} if i == 50 else {})) + "\n" for i in range(90)),
    )
    settings = RowsSettings("a.jsonl", columns={"reason": "why"})
    pieces = [piece.table for piece in stream_rows(settings, path.parent, 30, needed=("by", "why", "none"))]
    assert [sorted(piece.columns) for piece in pieces] == [["by", "n", "reason"]] * 3
    whole = pd.concat(pieces)
    assert [(row, *cells) for row, *cells in whole[["reason", "by"]].itertuples() if any(cells)] == [(51, "fog", "x")]
    with pytest.raises(InputError, match=r"a\.jsonl, line 1: \[rows\] columns: .*'whi'; did you mean 'why'"):
        next(stream_rows(RowsSettings("a.jsonl", columns={"reason": "whi"}), path.parent, 30))


@pytest.mark.parametrize(
    ("name", "text", "said"),
    [
        ("a.csv", "", "an empty file"),
        ("a.csv", "a,b\n", "at least one row"),
        ("a.csv", "a,b\n1,2\n1,2,3\n", r"a.csv, row 2 \(line 3\): row: expected 2 cells, found '3 cells'"),
        ("a.csv", 'a,b\n1,"2\n', "line 2: line: expected CSV"),
        ("a.csv", "a,a\n1,2\n", "every column once"),
        ("a.jsonl", '{"a": 1}\nnope\n', "line 2: line: expected a JSON object, found 'nope'"),
        ("a.jsonl", '{"a": 1}\n[1]\n', r"line 2: row: expected a JSON object, found \[1\]"),
        ("a.jsonl", '{"a": "\\ud83d"}', "half of a surrogate pair"),
        ("a.json", '{"a": {"b": 3}}', "name the array with key"),
        ("a.json", '{"name": "notes", "a": {"b": [{"n": 1}]}}', r'set key = "a\.b"'),
        ("a.json", '{"a": {"b": [{}]}, "c": [{}, {}], "d": [1, 2, 3]}', 'set key = "c"'),
        ("a.json", '{"a": {"b": [{}]}, "d.e": [{}, {}]}', r'set key = "a\.b"'),
        ("a.jsonl", '[{"a": 1}]', r"an array of them is a \.json file"),
        ("a.json", "[1", "expected JSON"),
        ("a.parquet", "PAR1", "a Parquet file"),
        ("a.arrow", "nothing", "an Arrow file or stream"),
        ("a.csv.gz", "a,b\n", "a whole file"),
        ("a.csv", "version https://git-lfs.github.com/spec/v1\noid sha256:4d\n", "a pointer to it, as Git leaves it"),
        ("a.xlsx", "x", r".csv, .tsv"),
    ],
)
def test_bad_files_are_refused_by_place(write: Write, name: str, text: str, said: str) -> None:
    """File and row or line, what was expected, what was found."""
    with pytest.raises(InputError, match=said):
        table(write(name, text))


def test_bad_rows_are_set_aside_with_their_reason_where_asked(write: Write) -> None:
    """The others keep their numbers; nothing is lost without a count."""
    path = write("a.jsonl", '{"a": 1}\nnope\n{"a": 3}\n[4]\n')
    rows = read_rows(RowsSettings(path.name, on_bad="set aside"), path.parent)
    assert rows.table["a"].to_dict() == {1: "1", 3: "3"}
    assert [bad.row for bad in rows.bad] == [2, 4]
    assert "line 2" in rows.bad[0].reason
    with pytest.raises(
        InputError, match=r"none of 1.; the first, row 1: .*b\.jsonl, line 1: line: expected a JSON object"
    ):
        read_rows(RowsSettings(write("b.jsonl", "x\n").name, on_bad="set aside"), path.parent)


def test_500_malformed_files_end_in_clear_errors(tmp_path: Path) -> None:
    """Seeded damage to files of every kind: the table, or an error that names the file; never another exception."""
    rng = random.Random(9)
    refused = 0
    for index in range(500):
        ending = rng.choice(TABLES)
        data = bytearray(write_kind(tmp_path, ending).read_bytes())
        if rng.random() < 0.3:
            data = bytearray(gzip.compress(bytes(data)))
            ending += ".gz"
        for _ in range(rng.randint(1, 6)):
            what, at = rng.randrange(3), rng.randrange(max(1, len(data)))
            if what == 0 and data:
                data[min(at, len(data) - 1)] = rng.randrange(256)
            elif what == 1:
                del data[at : at + rng.randint(1, 9)]
            else:
                data[at:at] = rng.choice((b'"', b"\n", b"\x00", b",", b"{", b"\xff", b"]"))
        path = tmp_path / f"bad-{index}{ending}"
        path.write_bytes(data)
        try:
            table(path)
        except FoldKitError as error:
            refused += 1
            assert path.name in str(error)
        path.unlink()
    assert refused > 250


def test_columns_and_settings_that_cannot_be(write: Write) -> None:
    """The near name of a column; a wrong encoding, unit or delimiter."""
    path = write("a.csv", "note,bulletin\nx,y\n")
    assert list(column(table(path), "note", "here")) == ["x"]
    with pytest.raises(InputError, match="did you mean 'bulletin'"):
        column(table(path), "buletin", "here")
    with pytest.raises(InputError, match=r"\[rows\] columns.*did you mean 'note'"):
        table(path, columns={"text": "notes"})
    with pytest.raises(InputError, match=r"bulletin = .note. beside a column bulletin.*other = .bulletin."):
        table(path, columns={"bulletin": "note"})
    crossed = table(path, columns={"bulletin": "note", "note": "bulletin", "same": "note"})
    assert crossed.to_dict("records") == [{"bulletin": "x", "same": "x", "note": "y"}]
    with pytest.raises(InputError, match=r'set delimiter = ";" in \[rows\], or "," if it is one column'):
        table(write("b.csv", "note;bulletin\nx;y\n"))
    assert list(table(write("b.csv", "note;bulletin\nx;y\n"), delimiter=",")) == ["note;bulletin"]
    with pytest.raises(InputError, match="line 2: encoding: expected ascii, found 'byte c3'"):
        table(write("b.csv", "a\né\nx\n"), encoding="ascii")
    with pytest.raises(
        InputError, match=r"encoding: expected (text as .* does not start with BOM|utf-16, found 'byte 61')"
    ):
        table(write("b.csv", "a\nx\n"), encoding="utf-16")
    for wrong in (
        {"unit": "page"},
        {"on_bad": "ignore"},
        {"delimiter": ";;"},
        {"encoding": "none"},
        {"encoding": "hex"},
        {"encoding": "\0"},
    ):
        with pytest.raises(UsageError, match=next(iter(wrong))):
            RowsSettings("x", **wrong)  # type: ignore[arg-type]


@pytest.mark.parametrize(
    ("columns", "kind", "slots"),
    [
        (["Question", "Answer", "id"], "question", {"question": "Question", "answer": "Answer"}),
        (["prompt", "completion"], "question", {"question": "prompt", "answer": "completion"}),
        (["input", "output"], "question", {"question": "input", "answer": "output"}),
        (["instruction", "output"], "question", {"question": "instruction", "answer": "output"}),
        (
            ["prompt", "chosen", "rejected"],
            "preference",
            {"prompt": "prompt", "chosen": "chosen", "rejected": "rejected"},
        ),
        (
            ["Question", "Context", "Answer"],
            "instruction",
            {"instruction": "Question", "input": "Context", "output": "Answer"},
        ),
        (["title", "text", "summary"], "question", {"question": "text", "answer": "summary"}),
        (["messages", "source"], "conversation", {"messages": "messages"}),
        (["text", "Label"], "label", {"text": "text", "label": "Label"}),
        (["text"], "text", {"text": "text"}),
        (["text", "data.text", "data.label"], "label", {"text": "text", "label": "data.label"}),
        (["question", "answers.text.0"], "question", {"question": "question", "answer": "answers.text.0"}),
        (["Premise", "hypothesis", "label"], "label", {"text": "Premise", "label": "label", "input": "hypothesis"}),
        *(
            (
                ["question", f"answer_{n}", f"answer_{n + 1}", "preferred"],
                "picked",
                {"prompt": "question", "first": f"answer_{n}", "second": f"answer_{n + 1}", "winner": "preferred"},
            )
            for n in (0, 1)
        ),
        (["wind", "sea"], None, {}),
    ],
)
def test_usual_names_are_recognised(columns: list[str], kind: str | None, slots: dict[str, str]) -> None:
    """The kind, and which column holds which slot."""
    found = recognise(columns)
    assert (found.name if found else None, found.columns if found else {}) == (kind, slots)


def test_what_is_odd_in_the_rows_is_seen(write: Write) -> None:
    """Blanks, stray numbers, lengths, and duplicates apart from the id."""
    lines = [f"{i},note {i}" for i in range(20)]
    lines += ["20,1013", "21,", "22,note 3"]
    summary = summarise(table(write("a.csv", "id,note\n" + "\n".join(lines) + "\n")))
    note = summary.columns[1]
    assert (summary.n_rows, note.n_blank, note.n_numbers, note.longest) == (23, 1, 1, 7)
    assert summary.duplicates == (23,)
    assert summary.scripts == {"Latin": 1.0}
    mixed = summarise(table(write("b.csv", "text\nветер\n風 é\n12\n"))).scripts
    assert mixed == pytest.approx({"Latin": 1 / 7, "Cyrillic": 5 / 7, "Cjk": 1 / 7})
    assert summary.odd_cells == ["column note: 1 cell with only a number where the rest is text"]
