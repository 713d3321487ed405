"""How many threads PyTorch uses, and how long they look out for one another before they sleep."""

from __future__ import annotations

import math
import os
import time
from pathlib import Path

from .control_groups import OWN, ROOT, control_groups

# The variables by which OpenMP is told; libgomp, which PyTorch's packages for Linux carry, has one of its own.
_TELLING = ("OMP_WAIT_POLICY", "GOMP_SPINCOUNT")
# How often a thread looks out for another before it sleeps, beside other programs at work.
_LOOKS = 1000
_RUNNING = Path("/proc/loadavg")


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
        others = min(_running(running, pause) for pause in (0.0, 0.005, 0.005)) - 1
    except (OSError, IndexError, ValueError):
        return True
    return others + usable_processors() > (os.cpu_count() or 1)


def _running(path: Path, pause: float) -> int:
    """Return how many threads of all programs run at this moment, this one among them (proc(5), loadavg)."""
    time.sleep(pause)
    return int(path.read_text().split()[3].partition("/")[0])


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
