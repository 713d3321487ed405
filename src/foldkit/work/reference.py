"""What the reference gives the replies of a dataset: found once, kept beside the dataset, held to its fingerprints."""

from __future__ import annotations

import dataclasses
from pathlib import Path
from typing import TYPE_CHECKING

from foldkit.formats import fingerprint_files, fingerprint_value, write_aside

from .parts import Parts

if TYPE_CHECKING:
    from foldkit.training.pair_objective import Reference
    from foldkit.training.team import Team

# The objectives that compare with a reference; the others need none.
_NEEDING = ("direct", "identity", "unpaired")


def reference_of(parts: Parts, team: Team) -> Reference | None:
    """Return the values of the model as the training begins with it, by row; None where the objective needs none.

    That is the base, or the base with the adapter that the training begins with or stands on.
    """
    from foldkit.training.team import first_here

    if parts.sheet.train.objective not in _NEEDING:
        return None
    with first_here(team):
        path = parts.sheet.path("built") / f"reference-{_key(parts)}.safetensors"
        if not path.exists():
            _write(parts, path)
    return _read(path)


def _key(parts: Parts) -> str:
    """Return the fingerprint of all that the values depend on."""
    sheet = parts.sheet
    under = [sheet.path(name) for name in (sheet.adapter.begin, sheet.adapter.over) if name]
    start = dataclasses.asdict(sheet.adapter) if under or sheet.adapter.start != "zero" else {}
    made_from = {
        "data": parts.dataset.fingerprint,
        "base": parts.base.fingerprint,
        "weights": sheet.base.weights,
        "compute": sheet.base.compute,
        "device": parts.base.decoder.device.type,
        "start": start | {"files": fingerprint_files(under)},
        "neighbours": sheet.train.objective == "unpaired",
    }
    return fingerprint_value(made_from).removeprefix("sha256:")


def _write(parts: Parts, path: Path) -> None:
    import safetensors.torch
    import torch

    from foldkit.training import reference_values

    found: dict[int, tuple[float, float, float]] = {}
    for part in ("train", "validation"):
        found |= reference_values(parts.base.decoder, parts.dataset.parts[part], parts.sheet.train)
    tensors = {
        "rows": torch.tensor(list(found), dtype=torch.int64),
        "values": torch.tensor(list(found.values()), dtype=torch.float64),
    }
    write_aside(path, safetensors.torch.save(tensors))


def _read(path: Path) -> Reference:
    import safetensors.torch

    tensors = safetensors.torch.load_file(path)
    rows, values = tensors["rows"].tolist(), tensors["values"].tolist()
    return {row: (chosen, rejected, other) for row, (chosen, rejected, other) in zip(rows, values, strict=True)}
