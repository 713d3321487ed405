"""Paths as a person writes them into a sheet."""

from __future__ import annotations

from pathlib import Path


def path_from(folder: Path, name: str) -> Path:
    """Return a path that is relative to `folder`, or to the home folder where it begins with `~/`."""
    return Path(name).expanduser() if name.startswith("~/") else folder / name
