"""Where the sample files stand in the package, and a copy of them to work on."""

from __future__ import annotations

import shutil
from pathlib import Path

DATA = Path(__file__).parent / "data"
PELLAM = DATA / "pellam"
NAMES = ("notes.csv", "general.txt", "bulletin.toml", "fold.toml")


def copy_demo(folder: Path) -> Path:
    """Copy the sample files into `folder`, those already there left as they are, and return the sheet's path."""
    folder.mkdir(parents=True, exist_ok=True)
    for name in NAMES:
        if not (folder / name).exists():
            shutil.copyfile(DATA / name, folder / name)
    return folder / "fold.toml"
