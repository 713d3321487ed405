"""Rotary positions (Su et al. 2021, eq. 34) in the half-rotated layout, and their published stretchings."""

from __future__ import annotations

import math
from dataclasses import dataclass

import torch
from torch import Tensor

SCALINGS = ("none", "linear", "llama3", "yarn", "longrope")


@dataclass(frozen=True)
class Rope:
    """How the first `n_dims` of a head are turned, by the base of the angles and a stretching for long contexts.

    `original` is the count of positions before stretching by `factor`. `low` and `high` bound the band between slow
    and fast angles: in turns over the original positions (llama3: low and high frequency factor; yarn: slow and fast
    beta). `factors` stretch each angle by itself (longrope). `gain` multiplies cosines and sines.
    """

    base: float
    n_dims: int
    scaling: str = "none"
    factor: float = 1.0
    original: int = 0
    low: float = 1.0
    high: float = 1.0
    factors: tuple[float, ...] = ()
    gain: float = 1.0

    def frequencies(self) -> Tensor:
        """Return the angle of each pair for one position, float64 (n_dims / 2,)."""
        steps = torch.arange(0, self.n_dims, 2, dtype=torch.float64) / self.n_dims
        plain = self.base**-steps
        if self.scaling == "linear":
            return plain / self.factor
        if self.scaling == "longrope":
            return plain / torch.tensor(self.factors, dtype=torch.float64)
        if self.scaling == "llama3":
            return self._by_wavelength(plain)
        if self.scaling == "yarn":
            return self._by_pair(plain)
        return plain

    def _by_wavelength(self, plain: Tensor) -> Tensor:
        """Stretch slow angles, keep fast ones, mix between (the rule published with Llama 3.1)."""
        turns = self.original * plain / (2 * math.pi)
        share = ((turns - self.low) / (self.high - self.low)).clamp(0, 1)
        return (1 - share) * plain / self.factor + share * plain

    def _by_pair(self, plain: Tensor) -> Tensor:
        """Stretch pairs by their place between two bounds (Peng et al. 2023, section 3.2, eq. 13 and 17)."""

        def place(turns: float) -> float:
            return self.n_dims * math.log(self.original / (turns * 2 * math.pi)) / (2 * math.log(self.base))

        first, last = max(math.floor(place(self.high)), 0), min(math.ceil(place(self.low)), self.n_dims - 1)
        pairs = torch.arange(self.n_dims // 2, dtype=torch.float64)
        slow = ((pairs - first) / max(last - first, 0.001)).clamp(0, 1)
        return slow * plain / self.factor + (1 - slow) * plain


def rotary_angles(positions: Tensor, rope: Rope) -> tuple[Tensor, Tensor]:
    """Return the factors of `rotate`, each float64 (batch, 1, seq, n_dims), for positions (batch, seq).

    Cosines, twice; sines, first with their sign turned. In float64, so that every dtype rounds the same angles.
    """
    angles = positions[:, None, :, None].to(torch.float64) * rope.frequencies().to(positions.device)
    cos, sin = angles.cos() * rope.gain, angles.sin() * rope.gain
    return torch.cat((cos, cos), dim=-1), torch.cat((-sin, sin), dim=-1)


def rotate(x: Tensor, cos: Tensor, sin: Tensor) -> Tensor:
    """Turn the two halves of the first dims of x (batch, heads, seq, head_dim) by the angles; the rest stays."""
    n_dims = cos.shape[-1]
    if n_dims < x.shape[-1]:
        return torch.cat((rotate(x[..., :n_dims], cos, sin), x[..., n_dims:]), dim=-1)
    return torch.addcmul(x * cos, x.roll(n_dims // 2, -1), sin)
