"""Every example runs as it stands."""

from __future__ import annotations

import os
import subprocess
import sys
from collections.abc import Iterator
from concurrent.futures import Future, ThreadPoolExecutor
from pathlib import Path

import pytest

Done = subprocess.CompletedProcess[str]
EXAMPLES = sorted((Path(__file__).parent.parent / "examples").glob("*.py"))


def run(path: Path, folder: Path) -> Done:
    own = {**os.environ, "OMP_NUM_THREADS": str(max(1, (os.cpu_count() or 1) // 2))}
    return subprocess.run([sys.executable, path, folder], capture_output=True, text=True, check=False, env=own)


@pytest.fixture(scope="module")
def running(tmp_path_factory: pytest.TempPathFactory) -> Iterator[dict[Path, Future[Done]]]:
    """Return the examples as they run, two at a time, each with half of the threads."""
    pool = ThreadPoolExecutor(2)
    yield {path: pool.submit(run, path, tmp_path_factory.mktemp(path.stem)) for path in EXAMPLES}
    pool.shutdown(cancel_futures=True)


@pytest.mark.parametrize("path", EXAMPLES, ids=lambda path: path.stem)
def test_an_example_runs(path: Path, running: dict[Path, Future[Done]]) -> None:
    """In a folder of its own, to the end, with something to say."""
    done = running[path].result()
    assert done.returncode == 0, done.stderr
    assert done.stdout.strip()
