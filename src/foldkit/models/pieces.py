"""The pieces that a row of examples is made of, and what a query of each sees."""

from __future__ import annotations

import functools
from dataclasses import dataclass

import torch
from torch import Tensor

from .piece import Piece, added_mask, last_ones_mask
from .piece_groups import Groups, alike, side_by_side

# Weights of attention to so many keys are kept whole: for a token they take a fourth of what else a layer keeps.
FEW_KEYS = 256


@dataclass(frozen=True)
class Pieces:
    """The pieces of one row, how many heads queries and keys have, and how many keys back a query may look, 0 for all.

    Weights of attention may be kept whole for pieces that see `few_keys` at most.
    """

    pieces: tuple[Piece, ...]
    heads: tuple[int, int] = (1, 1)
    window: int = 0
    few_keys: int = 0
    dtype: torch.dtype = torch.float32
    device: torch.device | None = None

    @functools.cached_property
    def sizes(self) -> list[int]:
        """Return the tokens of each piece."""
        return [piece.n_tokens for piece in self.pieces]

    @functools.cached_property
    def masks(self) -> list[Tensor | None]:
        """Return what is added to the products of each piece, (tokens, n_before + tokens); None for plain causal.

        0, or -inf for what is not seen.
        """
        return [self._mask(piece) for piece in self.pieces]

    @functools.cached_property
    def groups(self) -> Groups:
        """Return the groups of all pieces that see few keys."""
        few = [number for number, piece in enumerate(self.pieces) if piece.n_keys <= self.few_keys]
        groups = alike(self.pieces, few, self.few_keys**2)
        return side_by_side(self.pieces, groups, self.heads, self.window, self.dtype)

    @functools.cached_property
    def long(self) -> list[int]:
        """Return the numbers of the other pieces."""
        return [number for number, piece in enumerate(self.pieces) if piece.n_keys > self.few_keys]

    def _mask(self, piece: Piece) -> Tensor | None:
        if piece.before or 0 < self.window < piece.n_tokens:
            return added_mask(last_ones_mask(piece.n_tokens, piece.n_keys, self.window, self.device), self.dtype)
        return None
