"""The shape of an adapter."""

from __future__ import annotations

import math
from dataclasses import dataclass, field
from fnmatch import fnmatchcase

from foldkit.formats import UsageError, one_of
from foldkit.formats.settings import within

REACHES = ("attention", "mlp", "all")
SCALINGS = ("rank", "root")
STARTS = ("zero", "singular")
WHOLE = ("embedding", "head")


@dataclass(frozen=True)
class AdapterSettings:
    """Rank and alpha of the low-rank maps, dropout on their input, which linear maps they sit on, and how they start.

    Their product is scaled by alpha over the rank, or with `scaling` "root" over its square root (Kalajdzievski 2023,
    eq. 1). `reach` is a part of each layer, never the head; `names` are patterns that narrow it, of names such as
    `layers.3.attention.query`; `last_layers` keeps to the last so many, 0 for all. `ranks` gives maps whose name fits a
    pattern a rank of their own, the first that fits. They `start` with B at zero, or from the leading singular vectors
    of the frozen matrix, whose product is taken off again, so that step 0 is the base in both. `begin` is an adapter
    file whose factors are the start instead; `over` one that is added and held frozen.

    With `magnitude` the length of each row of the adapted matrix is trained apart from its direction (Liu et al. 2024).
    `full` trains the `embedding` or the `head` whole, beside the maps.
    """

    rank: int = 8
    alpha: float = 16.0
    scaling: str = "rank"
    dropout: float = 0.0
    reach: str = "all"
    names: tuple[str, ...] = ()
    last_layers: int = 0
    ranks: dict[str, int] = field(default_factory=dict)
    start: str = "zero"
    begin: str = ""
    over: str = ""
    magnitude: bool = False
    full: tuple[str, ...] = ()
    seed: int = 1

    def __post_init__(self) -> None:
        within(self.rank, 1, 4096, "[adapter]", "rank")
        for pattern, rank in self.ranks.items():
            if not isinstance(rank, int):
                raise UsageError("[adapter]", f"ranks.{pattern}", "a whole number", rank, "give a rank")
            within(rank, 1, 4096, "[adapter]", f"ranks.{pattern}")
        within(self.alpha, 1e-6, 1e6, "[adapter]", "alpha")
        within(self.dropout, 0, 0.95, "[adapter]", "dropout")
        within(self.last_layers, 0, 2**20, "[adapter]", "last_layers")
        within(self.seed, 0, 2**31 - 1, "[adapter]", "seed")
        one_of(self.reach, REACHES, "[adapter]", "reach")
        one_of(self.scaling, SCALINGS, "[adapter]", "scaling")
        one_of(self.start, STARTS, "[adapter]", "start")
        for name in self.full:
            one_of(name, WHOLE, "[adapter]", "full")
        if self.begin and self.over:
            raise UsageError("[adapter]", "over", "none with begin, which has it already", self.over, "leave out one")
        if self.magnitude and (self.start != "zero" or self.over):
            todo = "leave out magnitude, for its rows are not a sum, or the other"
            allowed = "start zero, and no adapter under it"
            raise UsageError("[adapter]", "magnitude", allowed, self.over or self.start, todo)

    def rank_of(self, name: str) -> int:
        """Return the rank of the map of this name."""
        return next((rank for pattern, rank in self.ranks.items() if fits(name, pattern)), self.rank)

    def scale_of(self, rank: int) -> float:
        """Return what the product of factors of this rank is multiplied by."""
        return self.alpha / (math.sqrt(rank) if self.scaling == "root" else rank)

    def reaches(self, name: str) -> bool:
        """Say whether a map of a part in reach is kept by its name."""
        return not self.names or any(fits(name, pattern) for pattern in self.names)


def fits(name: str, pattern: str) -> bool:
    """Match the whole name of a map, or its end after a dot: `query` fits `layers.3.attention.query`."""
    return fnmatchcase(name, pattern) or fnmatchcase(name, f"*.{pattern}")
