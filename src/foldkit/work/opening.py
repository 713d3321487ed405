"""Opening a base where and in what its settings say, what they leave open chosen here."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING

from foldkit.formats import InputError

if TYPE_CHECKING:
    import torch

    from foldkit.models import Base


def opened_base(path: Path, compute: str, weights: str, device: str, *, divided: bool = False) -> Base:
    """Open a base; the settings are those of `[base]`.

    Raises InputError for one that memory has no room for, with what would have.
    """
    from foldkit.models import chosen_compute, chosen_device, open_base

    where = chosen_device(device)
    dtype = chosen_compute(compute, where).dtype
    if path.exists():
        _check_room(path, weights, dtype, where)
    return open_base(path, dtype, weights, where, divided=divided)


def _check_room(path: Path, weights: str, dtype: torch.dtype, device: torch.device) -> None:
    """Raise InputError for a base that memory has no room for: the system would end the program without a word."""
    from foldkit.models.base import bytes_of_base
    from foldkit.models.settings import WEIGHTS
    from foldkit.training.free_memory import room_bytes

    needed, room = bytes_of_base(path, weights, dtype), room_bytes(device)
    if needed <= room or (weights == "stored" and path.is_dir()):  # those files are read as they are needed
        return
    narrower = ((way, bytes_of_base(path, way, dtype)) for way in WEIGHTS if way != weights)
    fits = next((f"weights = {way!r} takes {n / 1e6:,.0f} MB" for way, n in narrower if n <= room), "")
    todo = fits or "no way of holding it takes as little: choose a smaller base"
    where = f"[base] weights = {weights!r}"
    raise InputError(where, "memory", f"at most the {room / 1e6:,.0f} MB there are", f"{needed / 1e6:,.0f} MB", todo)
