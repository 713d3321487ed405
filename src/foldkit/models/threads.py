"""How many threads PyTorch uses, and how long they look out for one another before they sleep."""

from __future__ import annotations

import contextlib
import itertools
import math
import os
import threading
from collections.abc import Iterator
from pathlib import Path

from .control_groups import OWN, ROOT, control_groups

# The variables by which OpenMP is told; libgomp, which PyTorch's packages for Linux carry, has one of its own.
_TELLING = ("OMP_WAIT_POLICY", "GOMP_SPINCOUNT")
_RUNNING = Path("/proc/loadavg")
_OWN_THREADS = Path("/proc/self/task")
# Seconds between the first looks for other programs, and between later ones; how many alike in a row say that they
# have come, or gone.
_AT_ONCE, _EVERY, _COME, _GONE = 0.005, 0.5, 3, 10
# Held as long as this process looks for others: once is enough.
_LOOKING = threading.Lock()
# Numbers enough that PyTorch divides the work on them.
_SHARED_OUT = 1 << 16


def limit_threads() -> None:
    """Let there be no more threads than may run at once, before PyTorch is loaded, where the environment says nothing.

    By itself there is one for each processor, also where a container may use but a few of them.
    """
    most = usable_processors()
    if "OMP_NUM_THREADS" not in os.environ and most < _bound():
        os.environ["OMP_NUM_THREADS"] = str(most)


@contextlib.contextmanager
def giving_way() -> Iterator[None]:
    """Let threads that wait for one another sleep soon whenever other programs are at work, in a long `with` block.

    By themselves they look out 300,000 times, without rest: where another program is at work as well, that takes the
    processor from the very thread that is waited for. Where none is, one that sleeps may wait for its processor: on a
    virtual machine for many milliseconds. libgomp lets threads sleep soon while it has more of them than there are
    processors: so a thread that does nothing but have a few of its own is there as long as other programs are. Not
    where the environment says how to wait. What is computed does not change.
    """
    import torch

    n_threads, is_told = torch.get_num_threads(), any(name in os.environ for name in _TELLING)
    if n_threads == 1 or is_told or not _OWN_THREADS.is_dir() or not _LOOKING.acquire(blocking=False):
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
        _LOOKING.release()


def _watch(n_threads: int, ended: threading.Event) -> None:
    """Hold threads that do nothing while other programs are at work beside so many of this one, until the end."""
    held, n_otherwise = False, 0
    pauses = itertools.chain([_AT_ONCE] * _COME, itertools.repeat(_EVERY))
    with contextlib.ExitStack() as holding:
        while not ended.wait(next(pauses)):
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
        n_running = int(running.read_text().split()[3].partition("/")[0])  # proc(5), loadavg
    except (OSError, IndexError, ValueError):  # a thread that has just ended
        return False
    return n_running - states.count("R") + n_threads > (os.cpu_count() or 1)


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
