"""Opening a base: the frozen decoder and the fingerprint of its files."""

from __future__ import annotations

import gc
import math
import weakref
from collections.abc import Iterator
from dataclasses import dataclass
from pathlib import Path

import torch
from torch import Tensor, nn

from foldkit.formats import InputError, fingerprint_files, one_of

from .decoder import Decoder
from .device import CPU
from .folder import read_folder, weight_files
from .freeing import give_back
from .gguf import read_gguf
from .held import HOLDERS, FrozenEmbedding, FrozenLinear, Held, Packed, Sixteen, bfloat16
from .linear import fill, laid_out
from .settings import WEIGHTS

_OPEN: weakref.WeakSet[Decoder] = weakref.WeakSet()
# Bytes of a weight that is held so, its scales among them.
_BYTES = {"bfloat16": 2.0, "int8": 1.01, "nf4": 0.53}


@dataclass(frozen=True)
class Base:
    """An open-weight model as it was published: its decoder, frozen, and the fingerprint of its files."""

    decoder: Decoder
    fingerprint: str
    path: Path
    dtype: torch.dtype
    notes: tuple[str, ...] = ()

    @property
    def compute(self) -> str:
        """The dtype that it computes in, as `[base] compute` has it."""
        return str(self.dtype).removeprefix("torch.")

    @property
    def n_weight_bytes(self) -> int:
        """Bytes that the weights take in memory, with their scales."""
        found = (*self.decoder.parameters(), *self.decoder.buffers())
        return sum(value.numel() * value.element_size() for value in found)


def open_base(
    path: Path,
    dtype: torch.dtype = torch.float32,
    weights: str = "float32",
    device: torch.device = CPU,
    *,
    divided: bool = False,
    room: float = math.inf,
) -> Base:
    """Read a base from a folder or a `.gguf` file onto a device, hold its matrices as `weights` says; freeze it.

    It computes in `dtype`; bfloat16 on a processor is for the products with its matrices alone, all else is in float32
    there, unless it is to be `divided` between processes. `weights` is one of WEIGHTS: "stored" keeps 16-bit floats and
    blocks of a GGUF file as they are, "float32" expands them to `dtype`. A base that nothing uses any more is let go
    first. Raises InputError for a file that is missing, damaged, or of an unknown family, and, before a weight is read,
    for a base that takes more than `room` bytes, with a way of holding it that does not.
    """
    one_of(weights, WEIGHTS, "[base]", "weights")
    if not path.exists():
        raise InputError(path, "base", "an existing folder or .gguf file", None, "check the path of the base")
    let_go_of_bases()
    decoder, found = _described(path)
    _check_room(path, decoder, weights, dtype, room)
    narrow = dtype == torch.bfloat16 and device.type == "cpu" and not divided
    how = _How(torch.float32 if narrow else dtype, dtype, weights, device)
    if weights == "float32":
        decoder.join(dtype, device)
    shapes = {name: tuple(value.shape) for name, value in decoder.named_parameters()}
    n_low = 0
    for name, value in found:
        shape = (value.n_rows, value.width) if isinstance(value, Held) else tuple(value.shape)
        if shape != shapes[name]:
            raise InputError(path, f"weight {name}", f"shape {shapes[name]}", shape, "fetch the files again")
        n_low += isinstance(value, Packed) and value.n_bytes < 2 * value.n_rows * value.width
        _place(decoder, name, value, how)
    _OPEN.add(decoder)
    decoder.requires_grad_(requires_grad=False)
    if weights != "float32":
        decoder.join(dtype, device)
    give_back()
    notes = ("the base is low-bit already, and nf4 over it loses more: weights = 'stored' loses nothing",)
    return Base(decoder.eval(), fingerprint_base(path), path, dtype, notes if n_low and weights == "nf4" else ())


def _check_room(path: Path, decoder: Decoder, weights: str, dtype: torch.dtype, room: float) -> None:
    """Raise InputError for a base that takes more: the system would end the program without a word."""
    files = weight_files(path) if path.is_dir() else [path]
    n_weights = sum(value.numel() for value in decoder.parameters())
    takes = {way: n_weights * _BYTES.get(way, dtype.itemsize) for way in WEIGHTS}
    takes["stored"] = sum(file.stat().st_size for file in files)
    if takes[weights] <= room or (weights == "stored" and path.is_dir()):  # those files are read as they are needed
        return
    fits = (f"weights = {way!r} takes {n / 1e6:,.0f} MB" for way, n in takes.items() if n <= room)
    todo = next(fits, "no way of holding it takes as little: choose a smaller base")
    allowed, where = f"at most the {room / 1e6:,.0f} MB there are", f"[base] weights = {weights!r}"
    raise InputError(where, "memory", allowed, f"{takes[weights] / 1e6:,.0f} MB", todo)


def decoder_without_weights(path: Path) -> Decoder:
    """Return the decoder of a base as its files describe it, no weight of which is read."""
    return _described(path)[0]


def _described(path: Path) -> tuple[Decoder, Iterator[tuple[str, Packed | Tensor]]]:
    """Return the decoder, and its named weights, which are read one by one as they are asked for."""
    spec, found = read_folder(path) if path.is_dir() else read_gguf(path)
    with torch.device("meta"):
        return Decoder(spec), found


@dataclass(frozen=True)
class _How:
    """How matrices are held, their dtype where they are plain floats, and that of everything else."""

    dtype: torch.dtype
    matrix_dtype: torch.dtype
    weights: str
    device: torch.device

    def held(self, value: Held | Tensor, *, is_table: bool) -> Held | None:
        """Return how a matrix is held, None for plain floats; a table is looked up in, and gives `dtype`."""
        held, is_narrow = self._kept(value), self.matrix_dtype != self.dtype
        if held is None and is_table and is_narrow:
            held = bfloat16(value)
        if held is not None:
            held.narrow = is_narrow
        return held

    def _kept(self, value: Held | Tensor) -> Held | None:
        if self.weights == "float32":
            return None
        if self.weights != "stored":
            return HOLDERS[self.weights](value)
        if isinstance(value, Held):
            return value
        return Sixteen(value) if value.dtype in (torch.float16, torch.bfloat16) else None


def let_go_of_bases() -> None:
    """Free bases that nothing uses any more, though something that refers to itself has kept them."""
    if _OPEN:
        gc.collect()
        give_back()


def _place(decoder: Decoder, name: str, value: Held | Tensor, how: _How) -> None:
    """Put a weight into its module, or in place of that module a map that holds it."""
    at, _, leaf = name.rpartition(".")
    is_matrix = len(decoder.get_parameter(name).shape) == 2 and at != "positions"
    held = how.held(value, is_table=at == "embedding") if is_matrix else None
    if held is None:
        module = decoder.get_submodule(at)
        if getattr(module, leaf).is_meta:
            # A table that is only looked up in stays by rows.
            looked_up = at == "positions" or (at == "embedding" and decoder.head is not None)
            shape = decoder.get_parameter(name).shape
            multiplied = len(shape) == 2 and not looked_up
            room = (
                laid_out(shape[0], shape[1], how.matrix_dtype, how.device)
                if multiplied
                else torch.empty(shape, dtype=how.dtype, device=how.device)
            )
            setattr(module, leaf, nn.Parameter(room, requires_grad=False))
        fill(getattr(module, leaf).data, value)
        return
    parent, _, own = at.rpartition(".")
    module, held = decoder.get_submodule(at), held.to(how.device)
    new = FrozenEmbedding(held, how.dtype) if at == "embedding" else FrozenLinear(held, module.bias)  # type: ignore[arg-type]
    setattr(decoder.get_submodule(parent), own, new)


def fingerprint_base(path: Path) -> str:
    """Return the fingerprint of the files that make the base: weights, config and tokenizer."""
    if not path.is_dir():
        return fingerprint_files([path])
    named = [path / "config.json", path / "tokenizer.json", *weight_files(path)]
    return fingerprint_files([file for file in named if file.exists()])
