"""How many threads there are, and when they sleep."""

from __future__ import annotations

import os
import threading
import time
from pathlib import Path

import pytest

from foldkit.models import threads
from foldkit.models.threads import beside_others, giving_way, usable_processors


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


@pytest.mark.parametrize(
    ("n_running", "states", "n_threads", "are_there"),
    [(2, "RR", 4, False), (3, "RRS", 4, True), (3, "RRR", 4, False), (4, "RRR", 4, True), (4, "RR", 2, False)],
)
def test_other_programs_are_told_from_own_threads(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch, n_running: int, states: str, n_threads: int, *, are_there: bool
) -> None:
    """By threads that run and are not this process's, on four processors; a name with a bracket in it is no state."""
    monkeypatch.setattr(os, "cpu_count", lambda: 4)
    (tmp_path / "loadavg").write_text(f"0.31 0.20 0.10 {n_running}/77 4242\n")
    for number, state in enumerate(states):
        (tmp_path / "task" / str(number)).mkdir(parents=True)
        (tmp_path / "task" / str(number) / "stat").write_text(f"{number} (a) R b) {state} 1 2 3")
    assert beside_others(n_threads, tmp_path / "loadavg", tmp_path / "task") == are_there


def test_idle_threads_are_there_while_other_programs_are(monkeypatch: pytest.MonkeyPatch) -> None:
    """They come with the others, go with them, and with the end; at once where others are there from the start.

    Once, however often it is asked for; none where the environment says how to wait.
    """
    others = threading.Event()
    monkeypatch.setattr(threads, "beside_others", lambda _: others.is_set())
    monkeypatch.setattr(threads, "_EVERY", 0.001)
    monkeypatch.setattr(threads, "_bound", lambda: 8)
    monkeypatch.setattr("torch.get_num_threads", lambda: 4)
    for name in threads._TELLING:
        monkeypatch.delenv(name, raising=False)

    def become(n_idle: int) -> bool:
        """Wait until there are so many idle threads; a minute is far more than it takes."""
        end = time.monotonic() + 60
        while (n := sum(one.name == "idle" for one in threading.enumerate())) != n_idle and time.monotonic() < end:
            time.sleep(0.001)
        return n == n_idle

    with giving_way():
        assert become(0)
        for _ in range(2):
            others.set()
            assert become(2)  # each adds three to the four that are there: ten for eight processors
            others.clear()
            assert become(0)
        others.set()
        assert become(2)
    assert become(0)
    monkeypatch.setattr(threads, "_EVERY", 3600)
    with giving_way(), giving_way():
        assert become(2)
    assert become(0)
    n_before = threading.active_count()
    monkeypatch.setenv("OMP_WAIT_POLICY", "active")
    with giving_way():
        assert threading.active_count() == n_before
