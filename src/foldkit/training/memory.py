"""How much memory this process has held at most, on the processor's side or on a device of its own."""

from __future__ import annotations

import contextlib
import re
import sys
from pathlib import Path

import torch

from foldkit.models.device import CPU


def peak_bytes(device: torch.device = CPU) -> int:
    """Return the most bytes that this process has held, 0 where the system does not tell.

    On the processor's side that is the kernel's own peak of its resident memory, on a device what PyTorch's allocator
    has taken there.
    """
    if device.type != "cpu":
        return int(torch.get_device_module(device).max_memory_reserved(device))
    status = Path("/proc/self/status")
    if status.exists():
        # The other way to ask would count what the parent held when it started this process.
        found = re.search(r"^VmHWM:\s*(\d+) kB", status.read_text(), re.MULTILINE)
        return int(found.group(1)) * 1024 if found else 0
    try:
        import resource
    except ImportError:
        return 0
    peak = resource.getrusage(resource.RUSAGE_SELF).ru_maxrss
    return peak if sys.platform == "darwin" else peak * 1024


def forget_peak(device: torch.device = CPU) -> int:
    """Count the peak anew from here, where the system can; return what this process holds now, in bytes."""
    import psutil

    if device.type != "cpu":
        allocator = torch.get_device_module(device)
        allocator.reset_peak_memory_stats(device)
        return int(allocator.memory_reserved(device))
    with contextlib.suppress(OSError):
        Path("/proc/self/clear_refs").write_text("5")
    return int(psutil.Process().memory_info().rss)


def start_torch() -> None:
    """Let torch start all that it otherwise does at a training's first step: threads and buffers."""
    weight = torch.ones(256, 256, requires_grad=True)
    (weight @ weight).sum().backward()  # type: ignore[no-untyped-call]
