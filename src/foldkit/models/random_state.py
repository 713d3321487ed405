"""The states of the random numbers that a training draws: those of the processor, and those of another device."""

from __future__ import annotations

import contextlib
from collections.abc import Iterator

import torch
from torch import Tensor


def random_state(device: torch.device) -> Tensor:
    """Return PyTorch's state as bytes, uint8 (n,): the processor's, and after it the device's where that is another."""
    own = torch.get_rng_state()
    return own if device.type == "cpu" else torch.cat([own, torch.get_device_module(device).get_rng_state(device)])


@contextlib.contextmanager
def drawing_from(state: Tensor, device: torch.device) -> Iterator[None]:
    """Draw from a state for the length of a `with` block, and go on from the present one after it."""
    before = random_state(device)
    restore_random_state(state, device)
    try:
        yield
    finally:
        restore_random_state(before, device)


def restore_random_state(state: Tensor, device: torch.device) -> None:
    """Go on drawing from a state that `random_state` gave for a device of this kind."""
    own, aside = state.tensor_split([len(torch.get_rng_state())])
    torch.set_rng_state(own)
    if device.type != "cpu":
        torch.get_device_module(device).set_rng_state(aside, device)
