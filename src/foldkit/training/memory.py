"""How much memory this process has held at most."""

from __future__ import annotations

import sys


def peak_bytes() -> int:
    """Return the kernel's own peak of this process's resident memory in bytes, 0 where the system does not tell."""
    try:
        import resource
    except ImportError:
        return 0
    peak = resource.getrusage(resource.RUSAGE_SELF).ru_maxrss
    return peak if sys.platform == "darwin" else peak * 1024
