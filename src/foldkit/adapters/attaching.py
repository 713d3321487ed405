"""Putting an adapter on a base: which maps it reaches, its start, its switch."""

from __future__ import annotations

import contextlib
import math
from collections.abc import Iterator

import torch
from torch import Tensor, nn

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


def attach(decoder: Decoder, settings: AdapterSettings) -> Adapter:
    """Put low-rank maps on every linear map in reach; the head is never one.

    A starts uniform within 1 / sqrt(d_in) by the settings' seed, B at zero, so that the first step's logits are the
    base's own. Raises ValueError when the decoder already carries an adapter.
    """
    if any(isinstance(module, LowRankLinear) for module in decoder.modules()):
        raise ValueError("the decoder already carries an adapter")
    # Low-rank factors stay in float32 over any base, and follow a float64 one.
    dtype = torch.promote_types(decoder.dtype, torch.float32)
    draw = torch.Generator().manual_seed(settings.seed)
    maps: dict[str, LowRankLinear] = {}
    for index, layer in enumerate(decoder.layers):
        for name in _REACHED[settings.reach]:
            parent, leaf = layer.get_submodule(name.split(".")[0]), name.split(".")[1]
            frozen = getattr(parent, leaf)
            if frozen is None:  # a plain MLP has no gate
                continue
            low = LowRankLinear(frozen, settings.rank, settings.alpha, settings.dropout, dtype)
            bound = 1 / math.sqrt(frozen.in_features)
            start = torch.rand(low.factor_a.shape, generator=draw, dtype=torch.float64) * 2 * bound - bound
            low.factor_a.data.copy_(start)
            setattr(parent, leaf, low.to(decoder.device).train(frozen.training))
            maps[f"layers.{index}.{name}"] = low
    return Adapter(settings, maps)


def detach(decoder: Decoder) -> None:
    """Take the adapter off; the base is as it was."""
    for name, module in list(decoder.named_modules()):
        if isinstance(module, LowRankLinear):
            parent, _, leaf = name.rpartition(".")
            setattr(decoder.get_submodule(parent), leaf, module.frozen)
