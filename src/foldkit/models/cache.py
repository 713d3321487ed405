"""The key-value cache: keys and values of the tokens so far, held in memory set aside once."""

from __future__ import annotations

from typing import NamedTuple

import torch
from torch import Tensor

from .spec import ModelSpec


class Slot(NamedTuple):
    """Where a layer puts the keys and values of new tokens, and all that it has then; views of the cache."""

    new_keys: Tensor
    new_values: Tensor
    keys: Tensor
    values: Tensor

    def extend(self, key: Tensor, value: Tensor) -> tuple[Tensor, Tensor]:
        """Put in (batch, n_kv_heads, seq, head_dim) and return all keys and values so far."""
        self.new_keys.copy_(key)
        self.new_values.copy_(value)
        return self.keys, self.values


class Cache:
    """Keys and values of every layer, each (n_layers, batch, n_kv_heads, room, head_dim)."""

    def __init__(self, spec: ModelSpec, batch: int, room: int, dtype: torch.dtype, device: torch.device) -> None:
        shape = (spec.n_layers, batch, spec.n_kv_heads, room, spec.head_dim)
        self.keys = torch.zeros(shape, dtype=dtype, device=device)
        self.values = torch.zeros(shape, dtype=dtype, device=device)
        self.room, self.length = room, 0

    def slots(self, n_new: int) -> list[Slot]:
        """Return the slot of each layer for so many new tokens, which count from now on.

        Raises ValueError when the room is used up.
        """
        start, end = self.length, self.length + n_new
        if end > self.room:
            raise ValueError(f"the cache has room for {self.room} tokens, {end} were given")
        self.length = end
        parts = [kept[:, :, :, first:end].unbind() for first in (start, 0) for kept in (self.keys, self.values)]
        return [Slot(*views) for views in zip(*parts, strict=True)]

    def copy_row(self, row: int, start: int, other: Cache, n_tokens: int) -> None:
        """Put the first tokens of a cache of one row into a row, from `start` on; none where the count is below 1."""
        if n_tokens > 0:
            for own, given in ((self.keys, other.keys), (self.values, other.values)):
                own[:, row, :, start : start + n_tokens] = given[:, 0, :, :n_tokens]

    def pick_rows(self, rows: Tensor) -> None:
        """Make a batch of the rows of this index tensor; a row may be left out, and may come several times."""
        self.keys, self.values = self.keys[:, rows], self.values[:, rows]
