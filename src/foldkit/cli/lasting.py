"""Output that outlives its reader: a training goes on where nobody reads any more what it says."""

from __future__ import annotations

import contextlib
import os
import sys
from collections.abc import Iterator
from typing import Any, TextIO, cast


class _Lasting:
    """A stream that is written to for as long as that is possible, and nowhere after that."""

    def __init__(self, stream: TextIO) -> None:
        self._stream = stream

    def __getattr__(self, name: str) -> Any:
        return getattr(self._stream, name)

    def write(self, text: str) -> int:
        """Write, where that is still possible."""
        with self._outliving():
            self._stream.write(text)
        return len(text)

    def flush(self) -> None:
        """Write what is left to be written, where that is still possible."""
        with self._outliving():
            self._stream.flush()

    @contextlib.contextmanager
    def _outliving(self) -> Iterator[None]:
        try:
            yield
        except OSError:  # a terminal that is gone, a pipe without a reader
            with open(os.devnull, "wb") as nowhere:
                os.dup2(nowhere.fileno(), self._stream.fileno())


@contextlib.contextmanager
def lasting_output() -> Iterator[None]:
    """Let what is printed in a `with` block, or in the function this decorates, fail nothing."""
    outward, errors = (cast("TextIO", _Lasting(stream)) for stream in (sys.stdout, sys.stderr))
    with contextlib.redirect_stdout(outward), contextlib.redirect_stderr(errors):
        yield
