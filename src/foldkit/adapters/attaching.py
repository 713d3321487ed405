"""Putting an adapter on a base: which maps it reaches, its start, its switch."""

from __future__ import annotations

import contextlib
import dataclasses
import math
from collections.abc import Iterator, Mapping

import torch
from torch import Tensor, nn

from foldkit.formats import InputError, UsageError, near_name
from foldkit.formats.settings import within
from foldkit.models.decoder import Decoder

from .full import FullEmbedding, FullHead
from .lowrank import LowRankLinear
from .settings import AdapterSettings, fits

_REACHED = {
    "attention": ("attention.query", "attention.key", "attention.value", "attention.out"),
    "mlp": ("mlp.gate", "mlp.up", "mlp.down"),
}
_REACHED["all"] = _REACHED["attention"] + _REACHED["mlp"]

Pairs = Mapping[str, tuple[Tensor, Tensor]]


class Adapter:
    """The low-rank maps on one decoder, by the names of the linear maps they sit on, and what is trained whole."""

    def __init__(
        self, settings: AdapterSettings, maps: dict[str, LowRankLinear], full: dict[str, FullEmbedding | FullHead]
    ) -> None:
        self.settings, self.maps, self.full = settings, maps, full

    def trained(self) -> dict[str, nn.Parameter]:
        """Return all that is trained, in the order of the decoder's maps, by its name in an adapter file."""
        found = {f"{at}.{name}": value for at, low in self.maps.items() for name, value in low.trained().items()}
        return found | {name: module.weight for name, module in self.full.items()}

    @property
    def parameters(self) -> list[nn.Parameter]:
        """All that is trained, in the order of the decoder's maps."""
        return list(self.trained().values())

    @property
    def device(self) -> torch.device:
        """Where it is computed."""
        return self.parameters[0].device

    @property
    def n_parameters(self) -> int:
        """Count of trainable numbers."""
        return sum(factor.numel() for factor in self.parameters)

    def frozen_pairs(self) -> dict[str, tuple[Tensor, Tensor]]:
        """Return the pairs that are added and not trained, by the names of their maps."""
        pairs = {name: (low.frozen_a, low.frozen_b) for name, low in self.maps.items()}
        return {name: (a, b) for name, (a, b) in pairs.items() if a is not None and b is not None}

    def tensors(self) -> dict[str, Tensor]:
        """Return all tensors by name, as they stand in an adapter file."""
        found = {name: value.detach() for name, value in self.trained().items()}
        for name, (a, b) in self.frozen_pairs().items():
            found[f"{name}.frozen A"], found[f"{name}.frozen B"] = a, b
        return found

    def copy_from(self, tensors: Mapping[str, Tensor]) -> None:
        """Take over the tensors of an adapter of the same shape. Raises ValueError when names or shapes differ."""
        own = self.tensors()
        if {n: t.shape for n, t in own.items()} != {n: t.shape for n, t in tensors.items()}:
            raise ValueError("the factors are for other maps or of another rank")
        for name, value in tensors.items():
            own[name].copy_(value)
        for low in self.maps.values():
            low.train(low.training)  # lengths of rows that were kept are those of before

    def switch(self, *, on: bool) -> None:
        """Switch the adapter on, or off for the base's own answers."""
        for module in (*self.maps.values(), *self.full.values()):
            module.enabled = on

    @contextlib.contextmanager
    def switched(self, *, on: bool) -> Iterator[None]:
        """Switch for the length of a `with` block."""
        before = all(module.enabled for module in (*self.maps.values(), *self.full.values()))
        self.switch(on=on)
        try:
            yield
        finally:
            self.switch(on=before)


def attach(decoder: Decoder, settings: AdapterSettings, *, fresh: bool = True, frozen: Pairs | None = None) -> Adapter:
    """Put low-rank maps on every linear map in reach, and train whole what `settings.full` names.

    With `start` "zero" A is uniform within 1 / sqrt(d_in) by the settings' seed and B zero, so that the first step's
    logits are the base's own. `frozen` pairs are added to what their maps give, in reach or not, and not trained.
    Without `fresh` tensors are about to be copied in, and nothing is computed. Raises ValueError when the decoder
    already carries an adapter, and the errors of `check_fits`.
    """
    if any(isinstance(module, LowRankLinear) for module in decoder.modules()):
        raise ValueError("the decoder already carries an adapter")
    # What is trained stays in float32 over any base, and follows a float64 one.
    dtype = torch.promote_types(decoder.dtype, torch.float32)
    draw = torch.Generator().manual_seed(settings.seed)
    check_fits(decoder, settings)
    reached, pairs = {name for name, _, _ in _reached(decoder, settings)}, frozen or {}
    maps: dict[str, LowRankLinear] = {}
    for name, parent, leaf in _reached(decoder, AdapterSettings()):
        if name in reached or name in pairs:
            rank = settings.rank_of(name) if name in reached else 0
            low = _low_rank(getattr(parent, leaf), rank, settings, dtype)
            if fresh and rank:
                _start(low, settings, draw)
            if name in pairs:
                low.add_frozen(*pairs[name])
            setattr(parent, leaf, low.to(decoder.device))
            maps[name] = low
    return Adapter(settings, maps, _train_whole(decoder, settings, dtype))


def check_fits(decoder: Decoder, settings: AdapterSettings) -> None:
    """Raise an error for settings of which a decoder, whose weights need not be there, is not capable.

    UsageError for more layers than there are, or a pattern that fits nothing: misspelt, or out of reach; InputError for
    a head that is the embedding, and a rank of more singular vectors than a map has.
    """
    within(settings.last_layers, 0, len(decoder.layers), "[adapter]", "last_layers")
    in_reach = [name for name, _, _ in _reached(decoder, dataclasses.replace(settings, names=()))]
    reached = [name for name in in_reach if settings.reaches(name)]
    for what, patterns, names in (("names", settings.names, in_reach), ("ranks", settings.ranks, reached)):
        for pattern in patterns:
            if not any(fits(name, pattern) for name in names):
                allowed = f"patterns of maps in reach, such as {in_reach[0]}"
                leaves = {name.rpartition(".")[2] for name in names}
                raise UsageError("[adapter]", what, allowed, pattern, near_name(pattern, leaves))
    if "head" in settings.full and decoder.head is None:
        todo = "name embedding, which is both"
        raise InputError("[adapter]", "full", "a head of its own", "a head that is the embedding", todo)
    for name, parent, leaf in _reached(decoder, settings) if settings.start == "singular" else ():
        frozen, rank = getattr(parent, leaf), settings.rank_of(name)
        most = min(frozen.in_features, frozen.out_features)
        if rank > most:
            expected, todo = f"at most its {most} singular vectors, with start singular", "give it a lower one in ranks"
            raise InputError("[adapter]", f"rank of {name}", expected, rank, todo)


def _low_rank(frozen: nn.Module, rank: int, settings: AdapterSettings, dtype: torch.dtype) -> LowRankLinear:
    low = LowRankLinear(frozen, rank, settings.scale_of(max(1, rank)), settings.dropout, dtype)  # type: ignore[arg-type]
    if settings.magnitude and rank:
        low.train_magnitude()
    return low.train(frozen.training)


def _start(low: LowRankLinear, settings: AdapterSettings, draw: torch.Generator) -> None:
    if settings.start == "singular":
        low.start_from(*singular_factors(low.weight, len(low.factor_a), low.scale, settings.seed))
    else:
        bound = 1 / math.sqrt(low.in_features)
        start = torch.rand(low.factor_a.shape, generator=draw, dtype=torch.float64) * 2 * bound - bound
        low.factor_a.data.copy_(start)


def _reached(decoder: Decoder, settings: AdapterSettings) -> Iterator[tuple[str, nn.Module, str]]:
    """Yield the name, the parent and the leaf of every map in reach."""
    first = len(decoder.layers) - settings.last_layers if settings.last_layers else 0
    for index, layer in enumerate(decoder.layers):
        for part in _REACHED[settings.reach]:
            name, (parent, leaf) = f"layers.{index}.{part}", part.split(".")
            there = getattr(layer.get_submodule(parent), leaf) is not None  # a plain MLP has no gate
            if index >= first and there and settings.reaches(name):
                yield name, layer.get_submodule(parent), leaf


def _train_whole(
    decoder: Decoder, settings: AdapterSettings, dtype: torch.dtype
) -> dict[str, FullEmbedding | FullHead]:
    """Put trained copies in the place of the embedding or the head."""
    found: dict[str, FullEmbedding | FullHead] = {}
    if "embedding" in settings.full:
        decoder.embedding = found["embedding"] = FullEmbedding(decoder.embedding, dtype, decoder.dtype)  # type: ignore[assignment]
    if "head" in settings.full:
        assert decoder.head is not None  # it was checked
        decoder.head = found["head"] = FullHead(decoder.head, dtype)  # type: ignore[assignment]
    return found


def singular_factors(weight: Tensor, rank: int, scale: float, seed: int) -> tuple[Tensor, Tensor]:
    """Return A (rank, d_in) and B (d_out, rank) with scale * B A the leading singular part of a weight (d_out, d_in).

    Meng et al. 2024, section 3, eq. 2 and 3, by a randomised decomposition (Halko et al. 2011, algorithm 4.4).
    """
    with torch.random.fork_rng(devices=[]):
        torch.manual_seed(seed)
        weight = weight.detach().to(torch.promote_types(weight.dtype, torch.float32))
        left, values, right = torch.svd_lowrank(weight, q=min(rank + 8, *weight.shape), niter=12)
    root = (values[:rank] / scale).sqrt()
    return root[:, None] * right[:, :rank].T, left[:, :rank] * root


def detach(decoder: Decoder) -> None:
    """Take the adapter off; the base is as it was."""
    for name, module in list(decoder.named_modules()):
        if isinstance(module, LowRankLinear | FullEmbedding | FullHead):
            parent, _, leaf = name.rpartition(".")
            setattr(decoder.get_submodule(parent), leaf, module.frozen)
