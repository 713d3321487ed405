"""Layers that keep only what they are given, and are computed again on the way back (Chen et al. 2016, section 4.1).

PyTorch's own way of it would first load its compiler, 2 s and 70 MB.
"""

from __future__ import annotations

import functools
from collections.abc import Callable

import torch
from torch import Tensor
from torch.autograd.graph import saved_tensors_hooks

from .random_state import drawing_from, random_state


def recomputed(layer: Callable[..., Tensor], x: Tensor, *given: object) -> Tensor:
    """Return what a layer gives for x and what else it is given; its way back can be gone once."""
    kept = _Kept(functools.partial(layer, x, *given), x.device)
    with saved_tensors_hooks(kept.note, kept.take):
        return layer(x, *given)


class _Kept:
    """What a call keeps for its way back, by the order in which it does: nothing until the first of it is wanted."""

    def __init__(self, call: Callable[[], Tensor], device: torch.device) -> None:
        self.call, self.device, self.random = call, device, random_state(device)
        self.n_noted = 0
        self.values: dict[int, Tensor] | None = None

    def note(self, value: Tensor) -> int:
        self.n_noted += 1
        return self.n_noted - 1

    def take(self, number: int) -> Tensor:
        """Return the tensor of a number, and forget it."""
        if self.values is None:
            self.values = dict(enumerate(self._computed()))
        return self.values.pop(number)

    def _computed(self) -> list[Tensor]:
        """Return all that the call keeps, with the random numbers that it drew before."""
        values = list[Tensor]()

        def keep(value: Tensor) -> int:
            values.append(value.detach())  # with its way back it would keep itself alive
            return len(values) - 1

        drawing = drawing_from(self.random, self.device)
        with drawing, torch.enable_grad(), saved_tensors_hooks(keep, values.__getitem__):
            self.call()
        return values
