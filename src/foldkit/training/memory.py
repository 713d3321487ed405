"""How much memory this process has held at most."""

from __future__ import annotations

import contextlib
import re
import sys
from pathlib import Path


def peak_bytes() -> int:
    """Return the kernel's own peak of this process's resident memory in bytes, 0 where the system does not tell."""
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


def forget_peak() -> int:
    """Count the peak anew from here, where the system can; return what this process holds now, in bytes."""
    import psutil

    with contextlib.suppress(OSError):
        Path("/proc/self/clear_refs").write_text("5")
    return int(psutil.Process().memory_info().rss)


def start_torch() -> None:
    """Let torch start all that it otherwise does at a training's first step: threads and buffers."""
    import torch

    weight = torch.ones(256, 256, requires_grad=True)
    (weight @ weight).sum().backward()  # type: ignore[no-untyped-call]
