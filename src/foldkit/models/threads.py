"""How many threads PyTorch uses, and how long they look out for one another before they sleep."""

from __future__ import annotations

import contextlib
import math
import os
import threading
import time
from collections.abc import Iterator
from pathlib import Path

from .control_groups import OWN, ROOT, control_groups

# The variables by which OpenMP is told; libgomp, which PyTorch's packages for Linux carry, has one of its own.
_TELLING = ("OMP_WAIT_POLICY", "GOMP_SPINCOUNT")
# How often a thread looks out for another before it sleeps, beside other programs at work.
_LOOKS = 1000
_RUNNING = Path("/proc/loadavg")
_OWN_THREADS = Path("/proc/self/task")
# Seconds between two looks for other programs, and how many alike in a row say that they have come, or gone.
_EVERY, _COME, _GONE = 0.5, 3, 10
# Numbers enough that PyTorch divides the work on them.
_SHARED_OUT = 1 << 16


def tell_threads() -> None:
    """Let a thread that waits for another sleep soon beside other programs, and let there be no more than may run.

    Where the environment says nothing of it, and before PyTorch is loaded. By themselves they look out 300,000 times,
    without rest: where another program is at work as well, that takes the processor from the very thread that is
    waited for. Where none is, one that sleeps may wait for its processor: on a virtual machine for many milliseconds.
    And there is one for each processor, also where a container may use but a few of them.
    """
    if not any(name in os.environ for name in _TELLING) and others_at_work():
        os.environ["GOMP_SPINCOUNT"] = str(_LOOKS)
    most = usable_processors()
    if "OMP_NUM_THREADS" not in os.environ and most < _bound():
        os.environ["OMP_NUM_THREADS"] = str(most)


def others_at_work(running: Path = _RUNNING) -> bool:
    """Say whether other programs need the processors too that this one will use; where it is not told, they do."""
    try:
        others = min(_running(running, after=pause) for pause in (0.0, 0.005, 0.005)) - 1
    except (OSError, IndexError, ValueError):
        return True
    return others + usable_processors() > (os.cpu_count() or 1)


def _running(path: Path, *, after: float = 0.0) -> int:
    """Return how many threads of all programs run so many seconds from now, this one among them (proc(5), loadavg)."""
    time.sleep(after)
    return int(path.read_text().split()[3].partition("/")[0])


@contextlib.contextmanager
def giving_way() -> Iterator[None]:
    """Let threads that wait for one another sleep soon whenever other programs are at work, in a long `with` block.

    Not where the environment says how to wait, or `tell_threads` found others as a command started, which holds to its
    end. libgomp lets threads sleep soon while it has more of them than there are processors: so a thread that does
    nothing but have a few of its own is there as long as other programs are. What is computed does not change.
    """
    import torch

    n_threads, is_told = torch.get_num_threads(), any(name in os.environ for name in _TELLING)
    if n_threads == 1 or is_told or not _OWN_THREADS.is_dir():
        yield
        return
    ended = threading.Event()
    watch = threading.Thread(target=_watch, args=(n_threads, ended), daemon=True)
    watch.start()
    try:
        yield
    finally:
        ended.set()
        watch.join()


def _watch(n_threads: int, ended: threading.Event) -> None:
    """Hold threads that do nothing while other programs are at work beside so many of this one, until the end."""
    held, n_otherwise = False, 0
    with contextlib.ExitStack() as holding:
        while not ended.wait(_EVERY):
            n_otherwise = n_otherwise + 1 if beside_others(n_threads) != held else 0
            if n_otherwise < (_GONE if held else _COME):
                continue
            held, n_otherwise = not held, 0
            if held:
                holding.enter_context(_idle_threads(n_threads))
            else:
                holding.close()


@contextlib.contextmanager
def _idle_threads(n_threads: int) -> Iterator[None]:
    """Let OpenMP count more threads than processors, for the length of a `with` block: such as have their own, idle."""
    import torch

    ready, ended = threading.Semaphore(0), threading.Event()

    def hold() -> None:
        try:
            torch.ones(_SHARED_OUT).add_(1)
        finally:
            ready.release()
        ended.wait()

    n_missing = _bound() + 1 - n_threads
    holders = [
        threading.Thread(target=hold, name="idle", daemon=True) for _ in range(math.ceil(n_missing / (n_threads - 1)))
    ]
    for holder in holders:
        holder.start()
        ready.acquire()
    try:
        yield
    finally:
        ended.set()
        for holder in holders:
            holder.join()


def beside_others(n_threads: int, running: Path = _RUNNING, own: Path = _OWN_THREADS) -> bool:
    """Say whether threads of others run at this moment for which so many of this process leave no processor."""
    try:
        states = [(task / "stat").read_text().rpartition(")")[2].split()[0] for task in own.iterdir()]
        n_others = _running(running) - states.count("R")
    except (OSError, IndexError, ValueError):  # a thread that has just ended
        return False
    return n_others + n_threads > (os.cpu_count() or 1)


def usable_processors(own: Path = OWN, root: Path = ROOT) -> int:
    """Return on how many processors this process may run at once.

    Those it is bound to, or fewer where a control group, such as a container is in, has less time than that.
    """
    shares = (_share(folder, second=second) for folder, second in control_groups("cpu", own, root))
    share = min(shares, default=math.inf)
    return _bound() if share > _bound() else max(1, math.ceil(share))


def _bound() -> int:
    return len(os.sched_getaffinity(0)) if hasattr(os, "sched_getaffinity") else os.cpu_count() or 1


def _share(folder: Path, *, second: bool) -> float:
    """Return how many processors' time a group may take, infinity where it has no limit."""
    try:
        if second:
            most, period = (folder / "cpu.max").read_text().split()
        else:
            most, period = ((folder / name).read_text().strip() for name in ("cpu.cfs_quota_us", "cpu.cfs_period_us"))
    except OSError:  # no such group here
        return math.inf
    return math.inf if most in ("max", "-1") else int(most) / int(period)
