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

# Values expanded at once by one thread, so that the passes over them stay in the processor's caches.
_PIECE = 2**17


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
        """Return these rows, (n, width), never in `into`."""
        if self.type_id in FAST:
            return expand_fast(self.data[which], self.type_id).to(dtype)
        data = self.data[which].cpu().numpy()
        values = np.empty((len(data), self.width), np.float32)
        step = max(1, _PIECE // self.width)

        def expand(start: int) -> None:
            piece = data[start : start + step]
            values[start : start + step] = expand_blocks(piece.reshape(-1), self.type_id, (len(piece), self.width))

        list(_threads(torch.get_num_threads()).map(expand, range(0, len(data), step)))
        return torch.from_numpy(values).to(device=self.data.device, dtype=dtype)

    def picked(self, order: Tensor) -> Packed:
        """Return the matrix with its rows in another order, int64 (n,)."""
        return Packed(self.data[order], self.type_id, self.width)
