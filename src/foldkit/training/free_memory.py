"""How much memory a training may take: what is free, and no more than a limit on this process leaves."""

from __future__ import annotations

import math
from pathlib import Path

import torch

from foldkit.models.base import let_go_of_bases
from foldkit.models.control_groups import OWN, ROOT, control_groups
from foldkit.models.device import CPU

# The kernel's files of a control group: its limit, what is taken, and what of that is only a copy of files.
_SECOND = ("memory.max", "memory.current", "inactive_file")
_FIRST = ("memory.limit_in_bytes", "memory.usage_in_bytes", "total_inactive_file")


def free_bytes(device: torch.device = CPU) -> int:
    """Return how much is free for this process, without what others would have to give up; what it does not use is.

    On a device what its driver tells; else what the system has, or less where a control group, such as a container is
    in, has a limit, or this process one on its addresses.
    """
    import psutil

    let_go_of_bases()
    if device.type != "cpu":
        of_device = torch.get_device_module(device)
        of_device.empty_cache()
        return int(of_device.mem_get_info(device)[0])
    return _within_limits(psutil.virtual_memory().available)


def room_bytes(device: torch.device = CPU) -> int:
    """Return what can be taken at most: as `free_bytes`, and on the processor's side the system's swap space too."""
    import psutil

    if device.type != "cpu":
        return free_bytes(device)
    let_go_of_bases()
    return _within_limits(psutil.virtual_memory().available + psutil.swap_memory().free)


def _within_limits(n_bytes: int) -> int:
    return int(min(n_bytes, left_in_groups(), left_of_addresses()))


def left_of_addresses() -> float:
    """Return the bytes that a limit on this process's addresses (`ulimit -v`) leaves, infinity where there is none."""
    import psutil

    try:
        import resource
    except ImportError:  # a system without such limits
        return math.inf
    most, _ = resource.getrlimit(resource.RLIMIT_AS)
    return math.inf if most == resource.RLIM_INFINITY else max(0, most - psutil.Process().memory_info().vms)


def left_in_groups(own: Path = OWN, root: Path = ROOT) -> float:
    """Return the bytes that the control groups of this process leave it, infinity where none has a limit."""
    groups = control_groups("memory", own, root)
    return min((_left(folder, _SECOND if second else _FIRST) for folder, second in groups), default=math.inf)


def _left(folder: Path, names: tuple[str, str, str]) -> float:
    limit, taken, inactive = names
    try:
        most = (folder / limit).read_text().strip()
        if most == "max":
            return math.inf
        kinds = dict(line.split() for line in (folder / "memory.stat").read_text().splitlines())
        return max(0, int(most) - int((folder / taken).read_text()) + int(kinds.get(inactive, 0)))
    except OSError:  # no such group here
        return math.inf
