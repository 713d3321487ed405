"""What the reference gives the replies of a dataset: found once, kept beside the dataset, held to its fingerprints."""

from __future__ import annotations

import dataclasses
import time
from collections.abc import Callable, Sequence
from pathlib import Path
from typing import TYPE_CHECKING

from foldkit.datasets import row_numbers
from foldkit.formats import StoppedError, all_kept, fingerprint_files, fingerprint_value, keep

from .parts import Parts

if TYPE_CHECKING:
    from foldkit.training import Preparing
    from foldkit.training.pair_objective import Reference
    from foldkit.training.team import Team

OnPreparing = Callable[["Preparing"], None]

# Seconds between two events.
_SHOWN = 1.0


def reference_of(
    parts: Parts, team: Team, stop: Callable[[], bool] = lambda: False, tell: OnPreparing = lambda _: None
) -> Reference | None:
    """Return the values of the model as the training begins with it, by row; None where the objective needs none.

    That is the base, or the base with the adapter that the training begins with or stands on. All processes find a part
    each, which is kept as it comes; `tell` hears how far they are. Raises StoppedError where one is asked to stop.
    """
    from foldkit.training.team import first_here

    if not parts.sheet.train.compares:
        return None
    path = reference_at(parts)
    values = _read(path)
    (n_missing,) = team.totals(values is None)  # machines may each have a folder of their own
    if n_missing:
        kept_at = path.with_name(f"{path.stem}-{team.rank}-of-{team.size}.jsonl")
        values = _found(parts, team, kept_at, stop, tell)
        with first_here(team):
            if _read(path) is None:
                _write(values, path)
        for kept in path.parent.glob(f"{path.stem}-*.jsonl"):  # those of another number of processes too
            kept.unlink(missing_ok=True)
    return values


def reference_at(parts: Parts) -> Path:
    """Return where the reference of a training is kept."""
    return parts.sheet.path("built") / f"reference-{_key(parts)}.safetensors"


def _key(parts: Parts) -> str:
    """Return the fingerprint of all that the values depend on."""
    sheet = parts.sheet
    under = [sheet.path(name) for name in (sheet.adapter.begin, sheet.adapter.over) if name]
    start = dataclasses.asdict(sheet.adapter) if under or sheet.adapter.start != "zero" else {}
    made_from = {
        "data": parts.dataset.fingerprint,
        "base": parts.base.fingerprint,
        "weights": sheet.base.weights,
        "compute": parts.base.compute,
        "device": parts.base.decoder.device.type,
        "start": start | {"files": fingerprint_files(under)},
        "neighbours": sheet.train.objective == "unpaired",
    }
    return fingerprint_value(made_from).removeprefix("sha256:")


def _found(parts: Parts, team: Team, kept_at: Path, stop: Callable[[], bool], tell: OnPreparing) -> Reference:
    from foldkit.training import Preparing, reference_values

    known = {row: (a, b, c) for values in all_kept(kept_at) for row, a, b, c in values}
    every = [parts.dataset.parts[part] for part in ("train", "validation")]
    n_rows, values, told = sum(map(len, every)), dict[int, tuple[float, float, float]](), time.monotonic()
    for examples in every:
        for found in reference_values(parts.base.decoder, examples, parts.sheet.train, known, team):
            values.update(found)
            if found.keys() - known.keys():
                keep(kept_at, [(row, *own) for row, own in found.items()])
            if time.monotonic() - told >= _SHOWN:
                told = time.monotonic()
                tell(Preparing("reference", min(n_rows, len(values) * team.size), n_rows))
            if team.totals(stop())[0]:
                done = "what was found of the reference is kept: the same command goes on with it"
                raise StoppedError(f"stopped before the first step; {done}")
    return _of_all(values, [row for examples in every for row in row_numbers(examples)], team)


def _of_all(values: Reference, rows: Sequence[int], team: Team) -> Reference:
    """Return the values of all rows, each found by one process."""
    import torch

    table = torch.tensor([values.get(row, (0.0, 0.0, 0.0)) for row in rows], dtype=torch.float64)
    team.add_up([table])
    return {row: (a, b, c) for row, (a, b, c) in zip(rows, table.tolist(), strict=True)}


def _write(values: Reference, path: Path) -> None:
    import torch

    from foldkit.models.sealed import write_sealed

    tensors = {
        "rows": torch.tensor(list(values), dtype=torch.int64),
        "values": torch.tensor(list(values.values()), dtype=torch.float64),
    }
    write_sealed(path, tensors, {})


def _read(path: Path) -> Reference | None:
    """Return what a file holds; None where there is none that is as it was written."""
    from foldkit.models.sealed import UnsealedError, read_sealed

    try:
        tensors, _ = read_sealed(path)
    except (OSError, UnsealedError):
        return None
    rows, values = tensors["rows"].tolist(), tensors["values"].tolist()
    return {row: (chosen, rejected, other) for row, (chosen, rejected, other) in zip(rows, values, strict=True)}
