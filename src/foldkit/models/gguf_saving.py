"""A decoder back into a GGUF file: packed blocks byte for byte, under the header of the file it was read from."""

from __future__ import annotations

from pathlib import Path

import torch
from torch import Tensor

from foldkit.formats import GgufFile, InputError
from foldkit.formats.atomic import write_aside

from .decoder import Decoder
from .gguf import as_ours, family_of
from .gguf_families import GgufFamily
from .held import Packed
from .spec import ModelSpec
from .weights import file_names, parameter_shapes

# The format's numbers of types that plain floats are written in.
_FLOATS = {0: torch.float32, 1: torch.float16, 30: torch.bfloat16}


def save_gguf(decoder: Decoder, like: Path, path: Path) -> None:
    """Write the weights into a file with the header of `like`, aside and renamed into place.

    Packed matrices come back as they are, plain floats in the type that the header names. Raises InputError for a
    matrix that is not held as the header says: open the base with weights = "stored".
    """
    file, spec = GgufFile(like), decoder.spec
    family, names = family_of(file), file_names(list(parameter_shapes(spec)), family_of(file).modules)
    whole = bytearray(file.size)
    first = min(tensor.start for tensor in file.tensors.values())
    whole[:first] = file.raw(0, first)
    for theirs, tensor in file.tensors.items():
        ours = names.get(theirs)
        parts = [_bytes_of(decoder, name, tensor.type_id, spec, family, path) for name in ours or ()]
        data = b"".join(parts) if ours else file.raw(tensor.start, tensor.start + tensor.n_bytes)
        if len(data) != tensor.n_bytes:
            raise InputError(path, f"tensor {theirs}", f"{tensor.n_bytes} bytes", len(data), "name the file it is from")
        whole[tensor.start : tensor.start + tensor.n_bytes] = data
    write_aside(path, bytes(whole))


def _bytes_of(decoder: Decoder, name: str, type_id: int, spec: ModelSpec, family: GgufFamily, path: Path) -> bytes:
    """Return the bytes of one of our weights in the file's order of rows."""
    at, _, leaf = name.rpartition(".")
    module = decoder.get_submodule(at)
    held = getattr(module, "held", None) if leaf == "weight" else None
    if isinstance(held, Packed) and held.type_id == type_id:
        data = held.data
    elif held is None and type_id in _FLOATS:
        plain: Tensor = getattr(module, leaf)
        data = plain + 1 if family.offset and "norm." in name else plain
        data = data.to(_FLOATS[type_id])
    else:
        raise InputError(path, name, "blocks as they were stored", None, "open the base with weights = 'stored'")
    if "norm." not in name:
        data = data[torch.argsort(as_ours(name, torch.arange(len(data)), spec, family))]
    return bytes(data.contiguous().view(torch.uint8).numpy().tobytes())
