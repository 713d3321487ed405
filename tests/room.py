"""A disk without room, as a limit on the length of files stands in for it."""

from __future__ import annotations

import contextlib
import resource
import signal
from collections.abc import Iterator


@contextlib.contextmanager
def little_room(n_bytes: int = 1000) -> Iterator[None]:
    """Let no file become longer than this for the length of a `with` block."""
    before, signalled = resource.getrlimit(resource.RLIMIT_FSIZE), signal.signal(signal.SIGXFSZ, signal.SIG_IGN)
    resource.setrlimit(resource.RLIMIT_FSIZE, (n_bytes, before[1]))
    try:
        yield
    finally:
        resource.setrlimit(resource.RLIMIT_FSIZE, before)
        signal.signal(signal.SIGXFSZ, signalled)
