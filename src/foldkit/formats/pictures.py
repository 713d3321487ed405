"""Pictures as files."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING

from .atomic import placed

if TYPE_CHECKING:
    from matplotlib.figure import Figure


def write_picture(path: Path, figure: Figure) -> None:
    """Write a figure whole, aside and renamed, in the format that the ending of the file's name says."""
    with placed(path) as aside:
        figure.savefig(aside, format=path.suffix.removeprefix("."))
