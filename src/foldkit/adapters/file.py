"""One adapter, one `.safetensors` file; its header carries all that is needed to use it again.

The header is one JSON text under the key `foldkit`, so that the same adapter always gives the same bytes.
"""

from __future__ import annotations

import dataclasses
import json
from dataclasses import dataclass
from pathlib import Path
from typing import Any

import safetensors
import safetensors.torch

from foldkit.formats import InputError, UsageError, read_settings, write_aside
from foldkit.models.base import Base

from .attaching import Adapter, attach, detach
from .settings import AdapterSettings

VERSION = 1


@dataclass(frozen=True)
class AdapterHeader:
    """What an adapter file says of itself.

    `template` and `markup` are those it was trained with; `strip` says that blanks at the ends of cells were taken off,
    `weights` how the base's matrices were held, `compute` the dtype of everything else.
    """

    settings: AdapterSettings
    template: dict[str, Any]
    markup: dict[str, str]
    base: str
    base_fingerprint: str
    data_fingerprint: str
    strip: bool = True
    weights: str = "float32"
    compute: str = "float32"


def save_adapter(path: Path, adapter: Adapter, header: AdapterHeader) -> None:
    """Write the file aside and rename it into place."""
    text = json.dumps({"version": VERSION, **dataclasses.asdict(header)}, sort_keys=True, ensure_ascii=False)
    tensors = {name: value.contiguous() for name, value in adapter.tensors().items()}
    write_aside(path, safetensors.torch.save(tensors, {"foldkit": text}))


def read_header(path: Path) -> AdapterHeader:
    """Read the header alone; raises InputError for a file that is no adapter of ours."""
    try:
        with safetensors.safe_open(path, framework="pt") as file:
            values = json.loads((file.metadata() or {})["foldkit"])
        if values.pop("version") != VERSION:
            raise ValueError(f"this is not version {VERSION}")
        values["settings"] = read_settings(AdapterSettings, values["settings"], "adapter file")
        return AdapterHeader(**values)
    except FileNotFoundError:
        raise InputError(path, "adapter", "an existing file", None, "train first, or check the path") from None
    except (safetensors.SafetensorError, OSError, ValueError, KeyError, TypeError, UsageError) as error:
        raise InputError(
            path, "adapter", "an adapter file", str(error), "choose a file that a training wrote"
        ) from None


def begin_with(adapter: Adapter, path: Path, base: Base) -> None:
    """Copy the factors of a file into an adapter of the same shape, a second training's start.

    Raises InputError when they are of another base or another shape, or were scaled otherwise.
    """
    header = read_header(path)
    _check_base(header, path, base)
    own, theirs = ((s.alpha, s.scaling) for s in (adapter.settings, header.settings))
    if own != theirs:
        todo = "give [adapter] the settings that it was trained with"
        raise InputError(path, "alpha and scaling", f"those of [adapter], {own}", theirs, todo)
    try:
        adapter.copy_from(safetensors.torch.load_file(path))
    except ValueError as error:
        todo = "give [adapter] the settings that it was trained with"
        raise InputError(path, "factors", "those of [adapter]", str(error), todo) from None


def _check_base(header: AdapterHeader, path: Path, base: Base) -> None:
    if header.base_fingerprint != base.fingerprint:
        expected = f"its own base ({header.base}, {header.base_fingerprint})"
        arrived = f"{base.path.name}, {base.fingerprint}"
        raise InputError(path, "base", expected, arrived, "name that base, or train an adapter on this one")


def load_adapter(path: Path, base: Base) -> tuple[Adapter, AdapterHeader]:
    """Put the adapter of a file on its base, in place of any other.

    Raises InputError with both fingerprints when it was trained on another base.
    """
    header = read_header(path)
    _check_base(header, path, base)
    detach(base.decoder)
    adapter = attach(base.decoder, header.settings, fresh=False)
    try:
        adapter.copy_from(safetensors.torch.load_file(path))
    except ValueError as error:
        detach(base.decoder)
        raise InputError(path, "factors", "those of its header", str(error), "train the adapter again") from None
    return adapter, header
