"""The key-value cache: keys and values of the tokens so far, held in memory set aside once."""

from __future__ import annotations

import torch
from torch import Tensor

from .spec import ModelSpec


class Cache:
    """Keys and values of every layer, each (batch, n_kv_heads, room, head_dim)."""

    def __init__(self, spec: ModelSpec, batch: int, room: int, dtype: torch.dtype, device: torch.device) -> None:
        shape = (batch, spec.n_kv_heads, room, spec.head_dim)
        self.keys = [torch.zeros(shape, dtype=dtype, device=device) for _ in range(spec.n_layers)]
        self.values = [torch.zeros(shape, dtype=dtype, device=device) for _ in range(spec.n_layers)]
        self.n_layers, self.room, self.length = spec.n_layers, room, 0

    def extend(self, layer: int, key: Tensor, value: Tensor) -> tuple[Tensor, Tensor]:
        """Append (batch, n_kv_heads, seq, head_dim) and return all keys and values so far.

        The length moves on when the last layer has been extended. Raises ValueError when the room is used up.
        """
        n_new = key.shape[2]
        end = self.length + n_new
        if end > self.room:
            raise ValueError(f"the cache has room for {self.room} tokens, {end} were given")
        keys, values = self.keys[layer], self.values[layer]
        keys.narrow(2, self.length, n_new).copy_(key)
        values.narrow(2, self.length, n_new).copy_(value)
        if layer == self.n_layers - 1:
            self.length = end
        return keys.narrow(2, 0, end), values.narrow(2, 0, end)

    def copy_row(self, row: int, start: int, other: Cache, n_tokens: int) -> None:
        """Put the first tokens of a cache of one row into a row, from `start` on; none where the count is below 1."""
        if n_tokens > 0:
            for own, given in zip((*self.keys, *self.values), (*other.keys, *other.values), strict=True):
                own[row, :, start : start + n_tokens] = given[0, :, :n_tokens]

    def pick_rows(self, rows: Tensor) -> None:
        """Make a batch of the rows of this index tensor; a row may be left out, and may come several times."""
        self.keys = [keys[rows] for keys in self.keys]
        self.values = [values[rows] for values in self.values]
