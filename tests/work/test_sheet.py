"""The sheet: defaults, changes, and what is refused."""

from __future__ import annotations

from pathlib import Path

import pytest

from foldkit.demo import PELLAM, copy_demo
from foldkit.formats import FoldKitError, UsageError
from foldkit.rows import find_files
from foldkit.templates import read_template
from foldkit.work import read_sheet
from foldkit.work.sheet import sheet_from_mapping


def test_changes_win_over_the_file_and_the_rest_are_defaults(work_folder: Path) -> None:
    """TOML values, plain words as text, nested keys; paths are relative to the sheet."""
    changes = ["train.epochs=1.5", "adapter.reach=mlp", "split.test_only.kind=new", "score.measures=['loss']"]
    sheet = read_sheet(work_folder / "fold.toml", changes)
    assert (sheet.train.epochs, sheet.adapter.reach, sheet.adapter.rank) == (1.5, "mlp", 4)
    assert sheet.split.test_only == {"kind": "new"}
    assert sheet.score.measures == ("loss",)
    assert sheet.base_path() == work_folder / "tiny"
    assert read_sheet(work_folder / "fold.toml", ["base.model=pellam"]).base_path() == PELLAM
    assert sheet_from_mapping(sheet.as_mapping(), sheet.folder, "again") == sheet


@pytest.mark.parametrize(
    ("change", "said"),
    [
        ("train.epoch=3", "did you mean 'epochs'"),
        ("trian.epochs=3", "did you mean 'train'"),
        ("train.epochs=many", "expected a number, found 'many'"),
        ("train.epochs=nan", "0.001 to 10000"),
        ("train.batch=0", "1 to 65536"),
        ("epochs=3", r"expected section.key=value"),
        ("train.epochs", r"expected section.key=value"),
        ("base.markup=mine", "'auto' or 'own' or 'headings' or 'plain'"),
        ("train.objective=replay", "did you mean 'reply'"),
        ("score.contender=[{name='x'}]", r"contender\] x: kind: expected one of the three"),
    ],
)
def test_wrong_changes_are_refused_with_a_way_on(work_folder: Path, change: str, said: str) -> None:
    """The option, what was allowed, what arrived."""
    with pytest.raises(UsageError, match=said):
        read_sheet(work_folder / "fold.toml", [change])


@pytest.mark.parametrize(
    ("text", "said"),
    [("[row]\n", "did you mean 'rows'"), ("rows = 1\n", r"a section \[rows\]"), ("[rows]\nsource='x'\n", "template")],
)
def test_wrong_sheets_are_refused(tmp_path: Path, text: str, said: str) -> None:
    """An unknown section, a value where a section belongs, a section that is missing."""
    (tmp_path / "fold.toml").write_text(text)
    with pytest.raises(FoldKitError, match=said):
        read_sheet(tmp_path / "fold.toml")


def test_the_demos_sheet_is_a_sheet(tmp_path: Path) -> None:
    """And a copy leaves files that are there as they are."""
    (tmp_path / "general.txt").write_text("mine")
    sheet = read_sheet(copy_demo(tmp_path))
    assert sheet.base_path() == PELLAM
    assert (tmp_path / "general.txt").read_text() == "mine"


def test_paths_may_begin_at_the_home_folder(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    """Of the base, the rows and whatever else a sheet names; all others are relative to the sheet."""
    monkeypatch.setenv("HOME", str(tmp_path / "home"))
    copy_demo(tmp_path / "home" / "data")
    changes = ["base.model=~/bases/small", "rows.source=~/data/*.csv", "template.use=~/data/bulletin.toml"]
    sheet = read_sheet(copy_demo(tmp_path / "work"), changes)
    assert sheet.base_path() == tmp_path / "home" / "bases" / "small"
    assert find_files(sheet.rows, sheet.folder) == [tmp_path / "home" / "data" / "notes.csv"]
    assert sheet.path("~/x") == tmp_path / "home" / "x"
    assert sheet.path("~x") == tmp_path / "work" / "~x"
    assert read_template(sheet.template.use, sheet.folder).name == "bulletin"
