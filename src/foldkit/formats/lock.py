"""A lock on a folder's work, held by one process at a time and let go when that process ends, however it ends."""

from __future__ import annotations

import contextlib
from collections.abc import Iterator
from pathlib import Path

from .errors import FoldKitError


@contextlib.contextmanager
def locked(path: Path) -> Iterator[None]:
    """Hold the lock of this file for the length of a `with` block; raises FoldKitError while another process has it."""
    import filelock

    lock = filelock.FileLock(path)
    try:
        lock.acquire(timeout=0)
    except filelock.Timeout:
        todo = "wait for it to end, or choose another run"
        raise FoldKitError(f"{path.parent}: another process is at work there; {todo}") from None
    try:
        yield
    finally:
        lock.release()
