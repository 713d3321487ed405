"""A matrix in the blocks of a GGUF file, just as they stand there."""

from __future__ import annotations

import functools
from concurrent.futures import ThreadPoolExecutor

import numpy as np
import torch
from torch import Tensor

from foldkit.formats import expand_blocks

from .blocks import FAST, expand_fast
from .contract import Held
from .scratch import place

# Values expanded at once by one thread, so that the passes over them stay in the processor's caches.
_PIECE = 2**17
# Values of a fast type expanded at once: what stands beside them for a moment leaves gaps, as larger blocks do.
_FAST_PIECE = 2**20


@functools.cache
def _threads(n_threads: int) -> ThreadPoolExecutor:
    return ThreadPoolExecutor(n_threads)


class Packed(Held):
    """data uint8 (n_rows, bytes of a row) of one block type; nothing is lost."""

    def __init__(self, data: Tensor, type_id: int, width: int) -> None:
        super().__init__(len(data), width)
        self.register_buffer("data", data)
        self.data: Tensor
        self.type_id = type_id

    def rows(self, which: slice | Tensor, dtype: torch.dtype, into: Tensor | None = None) -> Tensor:
        """Return these rows, (n, width), in `into` where they are of a type of `FAST`."""
        if self.type_id in FAST and into is None:
            return expand_fast(self.data[which], self.type_id).to(dtype)
        if self.type_id in FAST:
            return self._in_pieces(self.data[which], dtype, into)
        data = self.data[which].cpu().numpy()
        values = np.empty((len(data), self.width), np.float32)
        step = max(1, _PIECE // self.width)

        def expand(start: int) -> None:
            piece = data[start : start + step]
            values[start : start + step] = expand_blocks(piece.reshape(-1), self.type_id, (len(piece), self.width))

        list(_threads(torch.get_num_threads()).map(expand, range(0, len(data), step)))
        return torch.from_numpy(values).to(device=self.data.device, dtype=dtype)

    def _in_pieces(self, data: Tensor, dtype: torch.dtype, into: Tensor | None) -> Tensor:
        values, step = place((len(data), self.width), dtype, data.device, into), max(1, _FAST_PIECE // self.width)
        for start in range(0, len(data), step):
            values[start : start + step] = expand_fast(data[start : start + step], self.type_id)
        return values

    def picked(self, order: Tensor) -> Packed:
        """Return the matrix with its rows in another order, int64 (n,)."""
        return Packed(self.data[order], self.type_id, self.width)
