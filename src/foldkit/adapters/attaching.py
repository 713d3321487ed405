"""Putting an adapter on a base: which maps it reaches, its start, its switch."""

from __future__ import annotations

import contextlib
import math
from collections.abc import Iterator

import torch
from torch import Tensor, nn

from foldkit.formats import InputError
from foldkit.models.decoder import Decoder

from .lowrank import LowRankLinear
from .settings import AdapterSettings

_REACHED = {
    "attention": ("attention.query", "attention.key", "attention.value", "attention.out"),
    "mlp": ("mlp.gate", "mlp.up", "mlp.down"),
}
_REACHED["all"] = _REACHED["attention"] + _REACHED["mlp"]


class Adapter:
    """The low-rank maps on one decoder, by the names of the linear maps they sit on."""

    def __init__(self, settings: AdapterSettings, maps: dict[str, LowRankLinear]) -> None:
        self.settings, self.maps = settings, maps

    @property
    def parameters(self) -> list[nn.Parameter]:
        """All factors, in the order of the decoder's maps."""
        return [factor for low in self.maps.values() for factor in (low.factor_a, low.factor_b)]

    @property
    def n_parameters(self) -> int:
        """Count of trainable numbers."""
        return sum(factor.numel() for factor in self.parameters)

    def tensors(self) -> dict[str, Tensor]:
        """Return the factors by name, as they stand in an adapter file."""
        found = {}
        for name, low in self.maps.items():
            found[f"{name}.A"], found[f"{name}.B"] = low.factor_a.detach(), low.factor_b.detach()
            if low.start_a is not None and low.start_b is not None:
                found[f"{name}.A start"], found[f"{name}.B start"] = low.start_a, low.start_b
        return found

    def copy_from(self, tensors: dict[str, Tensor]) -> None:
        """Take over the factors of `tensors`. Raises ValueError when names or shapes differ."""
        own = self.tensors()
        if {n: t.shape for n, t in own.items()} != {n: t.shape for n, t in tensors.items()}:
            raise ValueError("the factors are for other maps or of another rank")
        for name, value in tensors.items():
            own[name].copy_(value)

    def switch(self, *, on: bool) -> None:
        """Switch the adapter on, or off for the base's own answers."""
        for low in self.maps.values():
            low.enabled = on

    @contextlib.contextmanager
    def switched(self, *, on: bool) -> Iterator[None]:
        """Switch for the length of a `with` block."""
        before = all(low.enabled for low in self.maps.values())
        self.switch(on=on)
        try:
            yield
        finally:
            self.switch(on=before)


def attach(decoder: Decoder, settings: AdapterSettings, *, fresh: bool = True) -> Adapter:
    """Put low-rank maps on every linear map in reach; the head is never one.

    With `start` "zero" A is uniform within 1 / sqrt(d_in) by the settings' seed and B zero, so that the first step's
    logits are the base's own. Without `fresh` factors are about to be copied in, and nothing is computed. Raises
    ValueError when the decoder already carries an adapter, and InputError when no map is in reach.
    """
    if any(isinstance(module, LowRankLinear) for module in decoder.modules()):
        raise ValueError("the decoder already carries an adapter")
    # Low-rank factors stay in float32 over any base, and follow a float64 one.
    dtype = torch.promote_types(decoder.dtype, torch.float32)
    draw = torch.Generator().manual_seed(settings.seed)
    maps: dict[str, LowRankLinear] = {}
    for name, parent, leaf in _reached(decoder, settings):
        frozen, rank = getattr(parent, leaf), settings.rank_of(name)
        low = LowRankLinear(frozen, rank, settings.scale_of(rank), settings.dropout, dtype)
        if settings.start == "singular":
            low.set_start(*(singular_factors(frozen.weight, rank, low.scale, settings.seed) if fresh else ()))
        elif fresh:
            bound = 1 / math.sqrt(frozen.in_features)
            start = torch.rand(low.factor_a.shape, generator=draw, dtype=torch.float64) * 2 * bound - bound
            low.factor_a.data.copy_(start)
        setattr(parent, leaf, low.to(decoder.device).train(frozen.training))
        maps[name] = low
    if not maps:
        todo = f"names such as {next(_all_names(decoder))}"
        raise InputError("[adapter]", "names", "patterns that fit a linear map", list(settings.names), todo)
    return Adapter(settings, maps)


def _reached(decoder: Decoder, settings: AdapterSettings) -> Iterator[tuple[str, nn.Module, str]]:
    """Yield the name, the parent and the leaf of every map in reach."""
    first = len(decoder.layers) - settings.last_layers if settings.last_layers else 0
    for index, layer in enumerate(decoder.layers):
        for part in _REACHED[settings.reach]:
            name, (parent, leaf) = f"layers.{index}.{part}", part.split(".")
            there = getattr(layer.get_submodule(parent), leaf) is not None  # a plain MLP has no gate
            if index >= first and there and settings.reaches(name):
                yield name, layer.get_submodule(parent), leaf


def _all_names(decoder: Decoder) -> Iterator[str]:
    return (name for name, _, _ in _reached(decoder, AdapterSettings()))


def singular_factors(weight: Tensor, rank: int, scale: float, seed: int) -> tuple[Tensor, Tensor]:
    """Return A (rank, d_in) and B (d_out, rank) with scale * B A the leading singular part of a weight (d_out, d_in).

    Meng et al. 2024, section 3, eq. 2 and 3, by a randomised decomposition (Halko et al. 2011, algorithm 4.4).
    """
    with torch.random.fork_rng(devices=[]):
        torch.manual_seed(seed)
        left, values, right = torch.svd_lowrank(weight.detach(), q=min(rank + 8, *weight.shape), niter=12)
    root = (values[:rank] / scale).sqrt()
    return root[:, None] * right[:, :rank].T, left[:, :rank] * root


def detach(decoder: Decoder) -> None:
    """Take the adapter off; the base is as it was."""
    for name, module in list(decoder.named_modules()):
        if isinstance(module, LowRankLinear):
            parent, _, leaf = name.rpartition(".")
            setattr(decoder.get_submodule(parent), leaf, module.frozen)
