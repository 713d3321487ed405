"""How many threads there are."""

from __future__ import annotations

import os
from pathlib import Path

import pytest

from foldkit.models.threads import usable_processors


@pytest.mark.parametrize(
    ("own", "files", "most"),
    [
        ("0::/a/b", {"a/b/cpu.max": "max 100000", "a/cpu.max": "150000 100000"}, 2),
        ("0::/host/path", {"cpu.max": "50000 100000\n"}, 1),
        ("2:cpu,cpuacct:/a\n0::/", {"cpu/a/cpu.cfs_quota_us": "300000", "cpu/a/cpu.cfs_period_us": "100000"}, 3),
        ("2:cpu,cpuacct:/a", {"cpu/a/cpu.cfs_quota_us": "-1\n", "cpu/a/cpu.cfs_period_us": "100000"}, 8),
        ("3:cpuset:/a", {"cpu/a/cpu.cfs_quota_us": "100000", "cpu/a/cpu.cfs_period_us": "100000"}, 8),
        ("0::/", {"cpu.max": "6400000 100000"}, 8),
    ],
)
def test_processors_are_used_as_far_as_a_limit_leaves_them(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch, own: str, files: dict[str, str], most: int
) -> None:
    """Of eight: what a control group's time comes to, rounded up, as a container may have it."""
    monkeypatch.setattr(os, "sched_getaffinity", lambda _: range(8), raising=False)
    (tmp_path / "own").write_text(own)
    for name, value in files.items():
        (tmp_path / name).parent.mkdir(parents=True, exist_ok=True)
        (tmp_path / name).write_text(value)
    assert usable_processors(tmp_path / "own", tmp_path) == most
