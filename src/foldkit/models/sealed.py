"""Tensors and values in one safetensors file that tells whether it is as it was written.

The header holds one JSON text with sorted keys, so that the same content always gives the same bytes: the values, the
fingerprint of the tensors, and that of both.
"""

from __future__ import annotations

import contextlib
import errno
import hashlib
import json
import os
import re
from collections.abc import Mapping
from pathlib import Path
from typing import Any

import safetensors
import safetensors.torch
import torch
from torch import Tensor

from foldkit.formats import seal, unsealed
from foldkit.formats.atomic import placed
from foldkit.formats.fingerprint import canonical_json

_KEY = "foldkit"
# What stands aside while a file is written: ours, and within it the library's own.
_UNFINISHED = (".*.safetensors.????????", ".tmp??????")


class UnsealedError(ValueError):
    """A file that was not written so, or is not as it was written."""


def write_sealed(path: Path, tensors: Mapping[str, Tensor], values: Mapping[str, Any]) -> None:
    """Write the file aside, straight from the tensors' memory, and rename it into place; `values` are JSON."""
    told = {"values": dict(values), "tensors": _fingerprint(tensors)}
    text = canonical_json(seal(told))
    whole = {name: value.contiguous() for name, value in tensors.items()}
    with placed(path) as aside:
        try:
            safetensors.torch.save_file(whole, aside, {_KEY: text})
        except safetensors.SafetensorError as error:
            raise _as_of_the_system(error, path) from None


def clear_unfinished(folder: Path) -> None:
    """Remove what a killed `write_sealed` left in a folder where nobody writes now; what cannot be removed stays."""
    for pattern in _UNFINISHED:
        for path in folder.glob(pattern):
            with contextlib.suppress(OSError):
                path.unlink()


def _as_of_the_system(error: safetensors.SafetensorError, path: Path) -> OSError:
    """Return what the system said, which the library hands on as words alone."""
    said = re.search(r"\(os error (\d+)\)", str(error))
    number = int(said[1]) if said else errno.EIO
    return OSError(number, os.strerror(number), str(path))


def read_sealed_values(path: Path) -> dict[str, Any]:
    """Read the values alone. Raises UnsealedError, and OSError where the file cannot be read."""
    values: dict[str, Any] = _told(path)["values"]
    return values


def read_sealed(path: Path) -> tuple[dict[str, Tensor], dict[str, Any]]:
    """Read tensors and values. Raises UnsealedError, and OSError where the file cannot be read."""
    told = _told(path)
    tensors = safetensors.torch.load_file(path)
    if _fingerprint(tensors) != told["tensors"]:
        raise UnsealedError("its tensors are not as they were written")
    return tensors, told["values"]


def _told(path: Path) -> dict[str, Any]:
    try:
        with safetensors.safe_open(path, framework="pt") as file:
            told = unsealed(json.loads((file.metadata() or {})[_KEY]))
    except (safetensors.SafetensorError, ValueError, KeyError) as error:
        raise UnsealedError(str(error)) from None
    if told is None:
        raise UnsealedError("its header is not as it was written")
    return told


def _fingerprint(tensors: Mapping[str, Tensor]) -> str:
    whole = hashlib.sha256()
    for name, value in sorted(tensors.items()):
        whole.update(canonical_json([name, str(value.dtype), list(value.shape)]).encode())
        whole.update(value.detach().cpu().contiguous().reshape(-1).view(torch.uint8).numpy().data)
    return f"sha256:{whole.hexdigest()[:16]}"
