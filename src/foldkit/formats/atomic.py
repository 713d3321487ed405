"""Writing aside and renaming, so that a reader never sees half a file."""

from __future__ import annotations

import contextlib
import os
import tempfile
from collections.abc import Iterator
from pathlib import Path


def write_aside(path: Path, data: bytes | str) -> None:
    """Write the whole file beside its place, force it to disk, and rename it into place."""
    with placed(path) as aside:
        aside.write_bytes(data.encode("utf-8") if isinstance(data, str) else data)


@contextlib.contextmanager
def placed(path: Path) -> Iterator[Path]:
    """Yield the path of an empty file beside `path` to write into, then force that to disk and rename it into place."""
    try:
        handle, name = tempfile.mkstemp(dir=path.parent, prefix=f".{path.name}.")
    except OSError as error:
        raise OSError(error.errno, error.strerror, str(path)) from None  # not the name of what stands aside
    os.close(handle)
    try:
        yield Path(name)
        with open(name, "r+b") as file:
            os.fsync(file.fileno())
        os.chmod(name, 0o644)
        os.replace(name, path)
    except BaseException:
        Path(name).unlink(missing_ok=True)
        raise
