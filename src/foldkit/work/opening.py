"""Opening a base where and in what its settings say, what they leave open chosen here."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING

from foldkit.models.threads import giving_way

if TYPE_CHECKING:
    from foldkit.models import Base


@giving_way()
def opened_base(path: Path, compute: str, weights: str, device: str, *, divided: bool = False) -> Base:
    """Open a base that memory has room for; the settings are those of `[base]`."""
    from foldkit.models import chosen_compute, chosen_device, open_base
    from foldkit.training.free_memory import room_bytes

    where = chosen_device(device)
    dtype = chosen_compute(compute, where).dtype
    return open_base(path, dtype, weights, where, divided=divided, room=room_bytes(where))
