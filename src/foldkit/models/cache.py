"""The key-value cache: keys and values of the tokens so far, held in memory set aside once."""

from __future__ import annotations

import torch
from torch import Tensor

from .spec import ModelSpec


class Cache:
    """Keys and values of every layer, (n_layers, batch, n_kv_heads, room, head_dim)."""

    def __init__(self, spec: ModelSpec, batch: int, room: int, dtype: torch.dtype, device: torch.device) -> None:
        shape = (spec.n_layers, batch, spec.n_kv_heads, room, spec.head_dim)
        self.keys = torch.zeros(shape, dtype=dtype, device=device)
        self.values = torch.zeros(shape, dtype=dtype, device=device)
        self.n_layers, self.room, self.length = spec.n_layers, room, 0

    def extend(self, layer: int, key: Tensor, value: Tensor) -> tuple[Tensor, Tensor]:
        """Append (batch, n_kv_heads, seq, head_dim) and return all keys and values so far.

        The length moves on when the last layer has been extended. Raises ValueError when the room is used up.
        """
        end = self.length + key.shape[2]
        if end > self.room:
            raise ValueError(f"the cache has room for {self.room} tokens, {end} were given")
        self.keys[layer, :, :, self.length : end] = key
        self.values[layer, :, :, self.length : end] = value
        if layer == self.n_layers - 1:
            self.length = end
        return self.keys[layer, :, :, :end], self.values[layer, :, :, :end]

    def keep_rows(self, rows: Tensor) -> None:
        """Drop all rows of the batch but those of the index tensor `rows`."""
        self.keys, self.values = self.keys[:, rows], self.values[:, rows]
