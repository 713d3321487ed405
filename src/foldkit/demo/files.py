"""Where the sample files stand in the package, and a copy of them to work on."""

from __future__ import annotations

import shutil
from pathlib import Path

DATA = Path(__file__).parent / "data"
PELLAM = DATA / "pellam"
NAMES = ("notes.csv", "general.txt", "bulletin.toml", "fold.toml")
PREFERENCES = ("picks.jsonl", "general.txt", "picks.toml")
# Other kinds of rows of the same world, to try things on.
SAMPLES = ("radio.csv", "talks.jsonl", "picks.jsonl", "judge.py")


def copy_demo(folder: str | Path, *, preferences: bool = False) -> Path:
    """Copy the sample files into `folder`, those already there left as they are, and return the sheet's path.

    With `preferences` those of preference rows.
    """
    folder, names = Path(folder), PREFERENCES if preferences else NAMES
    for name in names:
        copy_sample(name, folder)
    return folder / names[-1]


def copy_sample(name: str, folder: str | Path) -> Path:
    """Copy one of the sample files into `folder`, unless it is there already, and return its path."""
    folder = Path(folder)
    folder.mkdir(parents=True, exist_ok=True)
    if not (folder / name).exists():
        shutil.copyfile(DATA / name, folder / name)
    return folder / name
