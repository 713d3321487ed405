"""Memory that was used for a while: given back to the system, or kept for what will use as much again."""

from __future__ import annotations

import contextlib
import ctypes
from collections.abc import Iterator

# Parameters of the C library's `mallopt`, and what they are in the end: the most that it comes to by itself.
_TRIM_THRESHOLD, _MMAP_MAX = -1, -4
_USUAL = {_TRIM_THRESHOLD: 2**26, _MMAP_MAX: 65536}


def give_back() -> None:
    """Give freed memory back to the system, where its allocator can be told to; it keeps hundreds of MB otherwise."""
    with contextlib.suppress(AttributeError, OSError, TypeError):
        ctypes.CDLL(None).malloc_trim(0)


@contextlib.contextmanager
def memory_kept() -> Iterator[None]:
    """Keep freed memory meanwhile, where the system's allocator can be told to, and give it back in the end.

    Steps of a training need the same memory one after the other. Large blocks would be given back at once, and the
    system would clear each of their pages anew, which takes up to a tenth of a step.
    """
    _tell({_TRIM_THRESHOLD: -1, _MMAP_MAX: 0})
    try:
        yield
    finally:
        _tell(_USUAL)
        give_back()


def _tell(parameters: dict[int, int]) -> None:
    with contextlib.suppress(AttributeError, OSError, TypeError):
        for parameter, value in parameters.items():
            ctypes.CDLL(None).mallopt(parameter, value)
