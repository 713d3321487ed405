"""The shape of an adapter."""

from __future__ import annotations

from dataclasses import dataclass

from foldkit.formats import one_of
from foldkit.formats.settings import within

REACHES = ("attention", "mlp", "all")


@dataclass(frozen=True)
class AdapterSettings:
    """Rank and alpha of the low-rank maps (their product is scaled by alpha / rank), dropout on their input, reach."""

    rank: int = 8
    alpha: float = 16.0
    dropout: float = 0.0
    reach: str = "all"
    seed: int = 1

    def __post_init__(self) -> None:
        within(self.rank, 1, 4096, "[adapter]", "rank")
        within(self.alpha, 1e-6, 1e6, "[adapter]", "alpha")
        within(self.dropout, 0, 0.95, "[adapter]", "dropout")
        one_of(self.reach, REACHES, "[adapter]", "reach")
