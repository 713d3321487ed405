"""Every example runs as it stands, and so does what the README shows of Python."""

from __future__ import annotations

import re
import runpy
import sys
from pathlib import Path

import pytest

from foldkit.demo import copy_demo

ROOT = Path(__file__).parent.parent
EXAMPLES = sorted((ROOT / "examples").glob("*.py"))


@pytest.mark.parametrize("path", EXAMPLES, ids=lambda path: path.stem)
def test_an_example_runs(
    path: Path,
    tmp_path: Path,
    monkeypatch: pytest.MonkeyPatch,
    capsys: pytest.CaptureFixture[str],
    request: pytest.FixtureRequest,
) -> None:
    """In a folder of its own, to the end, with something to say; here, where everything is imported already.

    With its pictures where it is the whole way.
    """
    if path.stem != "rows_to_scores":
        request.getfixturevalue("no_pictures")
    monkeypatch.setattr(sys, "argv", [str(path), str(tmp_path)])
    runpy.run_path(str(path), run_name="__main__")
    assert capsys.readouterr().out.strip()


def test_what_the_readme_shows_of_python_runs(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch, capsys: pytest.CaptureFixture[str]
) -> None:
    """Beside the demo's sheet, with two steps instead of two epochs and with few test rows."""
    (shown,) = re.findall(r"```python\n(.*?)```", (ROOT / "README.md").read_text(encoding="utf-8"), re.DOTALL)
    sheet = copy_demo(str(tmp_path))
    whole = sheet.read_text(encoding="utf-8")
    sheet.write_text(whole.replace("test = 0.12", "test = 4").replace("test_only", "# test_only"), encoding="utf-8")
    script = tmp_path / "shown.py"
    script.write_text(shown.replace("epochs=2", "steps=2"), encoding="utf-8")
    monkeypatch.chdir(tmp_path)
    runpy.run_path(str(script))
    said = capsys.readouterr().out
    assert "Finished(step=2" in said
    assert "Interval(value=" in said
