"""The header of a GGUF file (version 2 and 3, little endian), read in one pass over a memory map.

Source: the published GGUF specification. Layout: magic, version, tensor count, metadata count, metadata, tensor
infos, padding to the alignment, tensor data.
"""

from __future__ import annotations

import math
import mmap
import struct
from dataclasses import dataclass
from pathlib import Path
from typing import Any

import numpy as np

from .errors import InputError
from .gguf_blocks import BLOCK_TYPES
from .pointer import refuse_pointer

_SCALARS = {0: "B", 1: "b", 2: "H", 3: "h", 4: "I", 5: "i", 6: "f", 7: "?", 10: "Q", 11: "q", 12: "d"}
_STRING, _ARRAY = 8, 9
_MOST_ITEMS = 2**26


@dataclass(frozen=True)
class GgufTensor:
    """One tensor: shape as in memory (outermost axis first), block type, and where its bytes stand."""

    name: str
    shape: tuple[int, ...]
    type_id: int
    start: int
    n_bytes: int


class GgufFile:
    """A mapped GGUF file: `metadata` by key, `tensors` by name, `blocks` for the bytes of one tensor."""

    def __init__(self, path: Path) -> None:
        self.path = path
        refuse_pointer(path)
        try:
            with path.open("rb") as file:
                self._map = mmap.mmap(file.fileno(), 0, access=mmap.ACCESS_READ)
        except FileNotFoundError:
            raise InputError(path, "file", "an existing file", None, "check the path of the base") from None
        except (OSError, ValueError) as error:
            raise InputError(path, "file", "a GGUF file", str(error), "fetch the file again") from None
        try:
            self.metadata, self.tensors = self._read()
        except (struct.error, UnicodeDecodeError, IndexError, OverflowError) as error:
            raise InputError(path, "header", "a whole GGUF header", str(error), "fetch the file again") from None

    def blocks(self, tensor: GgufTensor) -> np.ndarray:
        """Return the tensor's bytes as uint8, without a copy."""
        return np.frombuffer(self._map, np.uint8, tensor.n_bytes, tensor.start)

    @property
    def size(self) -> int:
        """Bytes of the whole file."""
        return len(self._map)

    def raw(self, start: int, end: int) -> bytes:
        """Return a copy of these bytes of the file."""
        return self._map[start:end]

    def _read(self) -> tuple[dict[str, Any], dict[str, GgufTensor]]:
        magic, version, n_tensors, n_entries = struct.unpack_from("<4sIQQ", self._map, 0)
        if magic != b"GGUF":
            raise InputError(self.path, "first four bytes", "GGUF", magic, "choose a GGUF file")
        if version not in (2, 3):
            raise InputError(self.path, "version", "2 or 3", version, "fetch the file in a newer version")
        self._place = 24
        metadata = {}
        for _ in range(self._count(n_entries, "metadata entries")):
            key = self._string()
            metadata[key] = self._value(self._scalar("I"))
        infos = [self._tensor_info() for _ in range(self._count(n_tensors, "tensors"))]
        align = metadata.get("general.alignment", 32)
        if not isinstance(align, int) or align < 1:
            raise InputError(self.path, "general.alignment", "a positive whole number", align, "fetch the file again")
        start = math.ceil(self._place / align) * align
        return metadata, {name: self._placed(name, shape, kind, start + at) for name, shape, kind, at in infos}

    def _count(self, n: int, what: str) -> int:
        if n > _MOST_ITEMS or n > len(self._map):
            raise InputError(self.path, what, "a count that fits into the file", n, "fetch the file again")
        return n

    def _scalar(self, form: str) -> Any:
        (value,) = struct.unpack_from("<" + form, self._map, self._place)
        self._place += struct.calcsize("<" + form)
        return value

    def _string(self) -> str:
        (text,) = self._strings(1)
        return text

    def _strings(self, n: int) -> list[str]:
        """Read so many texts; a vocabulary has a hundred thousand, so the loop is kept bare."""
        data, place, length, texts = self._map, self._place, len(self._map), []
        for _ in range(n):
            start = place + 8
            place = start + int.from_bytes(data[place:start], "little")
            if place > length or start > length:
                todo = "fetch the file again"
                raise InputError(self.path, "length of a text", "at most the file's", place - start, todo)
            texts.append(data[start:place].decode("utf-8"))
        self._place = place
        return texts

    def _value(self, kind: int) -> Any:
        if kind == _STRING:
            return self._string()
        if kind == _ARRAY:
            return self._array()
        if kind not in _SCALARS:
            raise InputError(self.path, "type of a metadata value", "0 to 12", kind, "fetch the file again")
        return self._scalar(_SCALARS[kind])

    def _array(self) -> list[Any]:
        kind, size = self._scalar("I"), self._count(self._scalar("Q"), "length of a list")
        if kind == _STRING:
            return self._strings(size)
        if kind not in _SCALARS:
            raise InputError(self.path, "type of a list", "text or numbers", kind, "fetch the file again")
        form = f"<{size}{_SCALARS[kind]}"
        values = struct.unpack_from(form, self._map, self._place)
        self._place += struct.calcsize(form)
        return list(values)

    def _tensor_info(self) -> tuple[str, tuple[int, ...], int, int]:
        name, n_axes = self._string(), self._scalar("I")
        if not 1 <= n_axes <= 4:
            raise InputError(self.path, f"tensor {name}", "1 to 4 axes", n_axes, "fetch the file again")
        axes = [self._scalar("Q") for _ in range(n_axes)]
        kind, offset = self._scalar("I"), self._scalar("Q")
        return name, tuple(reversed(axes)), kind, offset

    def _placed(self, name: str, shape: tuple[int, ...], kind: int, start: int) -> GgufTensor:
        if kind not in BLOCK_TYPES:
            known = ", ".join(block.name for block in BLOCK_TYPES.values())
            raise InputError(
                self.path, f"type of tensor {name}", known, f"type {kind}", "fetch the base in one of these"
            )
        block = BLOCK_TYPES[kind]
        n_values = math.prod(shape)
        n_bytes = n_values // block.n_values * block.n_bytes
        if shape[-1] % block.n_values or start + n_bytes > len(self._map):
            raise InputError(self.path, f"tensor {name}", "data inside the file", shape, "fetch the file again")
        return GgufTensor(name, shape, kind, start, n_bytes)
