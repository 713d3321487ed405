"""A lock on a folder's work, held by one process at a time and let go when that process ends, however it ends."""

from __future__ import annotations

import contextlib
from collections.abc import Iterator
from pathlib import Path

from .errors import FoldKitError


@contextlib.contextmanager
def locked(path: Path, *, patient: bool = False) -> Iterator[None]:
    """Hold the lock of this file for the length of a `with` block; raises FoldKitError while another process has it.

    It waits a moment, for whoever asks `is_locked` holds the lock for as long as that takes; where it is patient, until
    the other process lets go.
    """
    import filelock

    lock = filelock.FileLock(path)
    try:
        lock.acquire(timeout=-1 if patient else 0.5)
    except filelock.Timeout:
        todo = "wait for it to end, or choose another run"
        raise FoldKitError(f"{path.parent}: another process is at work there; {todo}") from None
    try:
        yield
    finally:
        lock.release()


def is_locked(path: Path) -> bool:
    """Whether another process holds the lock of this file now: it is alive, however slow."""
    import filelock

    if not path.exists():
        return False
    lock = filelock.FileLock(path)
    try:
        lock.acquire(timeout=0)
    except filelock.Timeout:
        return True
    except OSError:  # a folder that may only be read
        return False
    lock.release()
    return False
