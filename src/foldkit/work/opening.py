"""Opening a base where and in what its settings say, what they leave open chosen here."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING

if TYPE_CHECKING:
    from foldkit.models import Base


def opened_base(path: Path, compute: str, weights: str, device: str, *, divided: bool = False) -> Base:
    """Open a base; the settings are those of `[base]`."""
    from foldkit.models import chosen_compute, chosen_device, open_base

    where = chosen_device(device)
    return open_base(path, chosen_compute(compute, where).dtype, weights, where, divided=divided)
