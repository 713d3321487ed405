"""Writing aside and renaming, so that a reader never sees half a file."""

from __future__ import annotations

import contextlib
import os
import secrets
from collections.abc import Iterator
from pathlib import Path


def write_aside(path: Path, data: bytes | str) -> None:
    """Write the whole file beside its place, force it to disk, and rename it into place."""
    with placed(path) as aside:
        aside.write_bytes(data.encode("utf-8") if isinstance(data, str) else data)


@contextlib.contextmanager
def placed(path: Path) -> Iterator[Path]:
    """Yield the path of an empty file beside `path` to write into, then force that to disk and rename it into place.

    Who may read it is as for any new file of the user's. Raises OSError with the name of `path` where that cannot be.
    """
    aside = path.with_name(f".{path.name}.{secrets.token_hex(4)}")
    with named(path, aside):
        aside.open("xb").close()
        rights = aside.stat().st_mode
        try:
            yield aside
            with aside.open("r+b") as file:
                os.fsync(file.fileno())
            os.chmod(aside, rights)  # a library that renames as well leaves its own
            os.replace(aside, path)
        except BaseException:
            aside.unlink(missing_ok=True)
            raise


@contextlib.contextmanager
def named(path: Path, aside: Path | None = None) -> Iterator[None]:
    """Say in an error of the system what was written, where that names nothing, or what stands aside."""
    try:
        yield
    except OSError as error:
        if error.errno is None or error.filename not in (None, str(aside)):
            raise
        raise OSError(error.errno, os.strerror(error.errno), str(path)) from None
