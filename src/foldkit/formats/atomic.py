"""Writing aside and renaming, so that a reader never sees half a file."""

from __future__ import annotations

import os
import tempfile
from pathlib import Path


def write_aside(path: Path, data: bytes | str) -> None:
    """Write the whole file beside its place, force it to disk, and rename it into place."""
    content = data.encode("utf-8") if isinstance(data, str) else data
    try:
        handle, name = tempfile.mkstemp(dir=path.parent, prefix=f".{path.name}.")
    except OSError as error:
        raise OSError(error.errno, error.strerror, str(path)) from None  # not the name of what stands aside
    try:
        with os.fdopen(handle, "wb") as file:
            file.write(content)
            file.flush()
            os.fsync(file.fileno())
        os.chmod(name, 0o644)
        os.replace(name, path)
    except BaseException:
        Path(name).unlink(missing_ok=True)
        raise
