"""One adapter, one `.safetensors` file; its header carries all that is needed to use it again.

The same adapter always gives the same bytes, and a file that is not as it was written is refused.
"""

from __future__ import annotations

import dataclasses
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

from torch import Tensor

from foldkit.formats import InputError, UsageError, read_settings
from foldkit.models.base import Base
from foldkit.models.sealed import UnsealedError, read_sealed, read_sealed_values, write_sealed

from .attaching import Adapter, attach, detach
from .settings import AdapterSettings

VERSION = 2


@dataclass(frozen=True)
class AdapterHeader:
    """What an adapter file says of itself.

    `template` and `markup` are those it was trained with; `strip` says that blanks at the ends of cells were taken off,
    `columns` and `choices` which columns slots were made of, `weights` how the base's matrices were held, `compute` the
    dtype of everything else. `parts` is the fingerprint of which row was in which part, `earlier` those of the adapters
    that it began with or was trained over.
    """

    settings: AdapterSettings
    template: dict[str, Any]
    markup: dict[str, Any]
    base: str
    base_fingerprint: str
    data_fingerprint: str
    parts: str = ""
    earlier: tuple[str, ...] = ()
    strip: bool = True
    columns: dict[str, str] = field(default_factory=dict)
    choices: tuple[str, ...] = ()
    weights: str = "float32"
    compute: str = "float32"


def save_adapter(path: Path, adapter: Adapter, header: AdapterHeader) -> None:
    """Write the file aside and rename it into place."""
    values = {"version": VERSION, **dataclasses.asdict(header)}
    # As pairs: the first pattern that fits a name counts, and keys are sorted.
    values["settings"]["ranks"] = list(header.settings.ranks.items())
    write_sealed(path, adapter.tensors(), values)


def read_header(path: Path) -> AdapterHeader:
    """Read the header alone; raises InputError for a file that is no adapter of ours."""
    if path.is_dir():
        todo = f"choose a file in it, such as {path / 'adapter.safetensors'}"
        raise InputError(path, "adapter", "an adapter file", "a folder", todo)
    try:
        values = read_sealed_values(path)
        if values.pop("version") != VERSION:
            raise ValueError(f"this is not version {VERSION}")
        values["settings"]["ranks"] = dict(values["settings"]["ranks"])
        values["settings"] = read_settings(AdapterSettings, values["settings"], "adapter file")
        lists = {name: tuple(values.get(name, ())) for name in ("earlier", "choices")}
        return AdapterHeader(**{**values, **lists})
    except FileNotFoundError:
        raise InputError(path, "adapter", "an existing file", None, "train first, or check the path") from None
    except (OSError, ValueError, KeyError, TypeError, UsageError) as error:
        raise _no_adapter(path, error) from None


def _no_adapter(path: Path, error: Exception) -> InputError:
    return InputError(path, "adapter", "an adapter file", str(error), "choose a file that a training wrote")


@dataclass(frozen=True)
class Loaded:
    """An adapter file in memory: its header, and its tensors by name."""

    path: Path
    header: AdapterHeader
    tensors: dict[str, Tensor]

    @property
    def frozen_pairs(self) -> dict[str, tuple[Tensor, Tensor]]:
        """The pairs that are added and not trained, by the names of their maps."""
        names = [name.removesuffix(".frozen A") for name in self.tensors if name.endswith(".frozen A")]
        return {name: (self.tensors[f"{name}.frozen A"], self.tensors[f"{name}.frozen B"]) for name in names}


def read_adapter(path: Path, base: Base) -> Loaded:
    """Read an adapter file; raises InputError with both fingerprints when it was trained on another base."""
    header = read_header(path)
    if header.base_fingerprint != base.fingerprint:
        expected = f"its own base ({header.base}, {header.base_fingerprint})"
        arrived = f"{base.path.name}, {base.fingerprint}"
        raise InputError(path, "base", expected, arrived, "name that base, or train an adapter on this one")
    try:
        return Loaded(path, header, read_sealed(path)[0])
    except (OSError, UnsealedError) as error:
        raise _no_adapter(path, error) from None


def put_on(base: Base, loaded: Loaded) -> Adapter:
    """Put an adapter on its base, in place of any other. Raises InputError when its tensors are not its header's."""
    detach(base.decoder)
    try:
        return _attached(base, loaded.header.settings, loaded)
    except (ValueError, KeyError) as error:
        detach(base.decoder)
        raise InputError(loaded.path, "factors", "those of its header", str(error), "train the adapter again") from None


def load_adapter(path: Path, base: Base) -> tuple[Adapter, AdapterHeader]:
    """Put the adapter of a file on its base, in place of any other."""
    loaded = read_adapter(path, base)
    return put_on(base, loaded), loaded.header


def begin_with(base: Base, settings: AdapterSettings, path: Path) -> Adapter:
    """Attach an adapter that begins with the factors of a file, a second training's start.

    Raises InputError when they are of another base or another shape, or were scaled otherwise.
    """
    loaded = read_adapter(path, base)
    todo = "give [adapter] the settings that it was trained with"
    own, theirs = ((s.alpha, s.scaling) for s in (settings, loaded.header.settings))
    if own != theirs:
        raise InputError(path, "alpha and scaling", f"those of [adapter], {own}", theirs, todo)
    try:
        return _attached(base, settings, loaded)
    except ValueError as error:
        raise InputError(path, "factors", "those of [adapter]", str(error), todo) from None


def _attached(base: Base, settings: AdapterSettings, loaded: Loaded) -> Adapter:
    adapter = attach(base.decoder, settings, fresh=False, frozen=loaded.frozen_pairs)
    adapter.copy_from(loaded.tensors)
    return adapter
