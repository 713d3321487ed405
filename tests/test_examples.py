"""Every example runs as it stands."""

from __future__ import annotations

import subprocess
import sys
from pathlib import Path

import pytest

EXAMPLES = sorted((Path(__file__).parent.parent / "examples").glob("*.py"))


@pytest.mark.parametrize("path", EXAMPLES, ids=lambda path: path.stem)
def test_an_example_runs(path: Path, tmp_path: Path) -> None:
    """In a folder of its own, to the end, with something to say."""
    done = subprocess.run([sys.executable, path, tmp_path], capture_output=True, text=True, check=False)
    assert done.returncode == 0, done.stderr
    assert done.stdout.strip()
