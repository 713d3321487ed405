"""How many threads there are, and when they sleep."""

from __future__ import annotations

import os
from pathlib import Path

import pytest

from foldkit.models.threads import others_at_work, usable_processors


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


@pytest.mark.parametrize(("others", "are_there"), [("none", False), ("one a processor", True), ("not told", True)])
def test_other_programs_at_work_are_seen(tmp_path: Path, others: str, *, are_there: bool) -> None:
    """By the threads that run, this one among them; where that is not told they are thought to be there."""
    n_running = 1 if others == "none" else 1 + (os.cpu_count() or 1)
    if others != "not told":
        (tmp_path / "loadavg").write_text(f"0.31 0.20 0.10 {n_running}/77 4242\n")
    assert others_at_work(tmp_path / "loadavg") == are_there
