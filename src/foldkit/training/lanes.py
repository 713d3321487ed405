"""Parts of a pass side by side, each in a thread of this process, on a CPU.

PyTorch divides each call between its threads and waits for the last of them before the next. Parts that have a thread
each wait for one another once a pass, and while one goes through memory another multiplies.
"""

from __future__ import annotations

import contextlib
import sys
from collections.abc import Callable, Iterator, Sequence
from concurrent.futures import ThreadPoolExecutor
from typing import TypeVar

import torch

from foldkit.models.decoder import Decoder
from foldkit.models.freeing import give_back
from foldkit.models.quick_training import TrainingLayer, training_layers

from .settings import TrainSettings
from .team import ALONE, Team

Given = TypeVar("Given")
Made = TypeVar("Made")

# Two are what was measured; each part holds less of what examples have in common.
_LANES = 2
# Parts of fewer tokens, or of fewer multiplications a layer, take as long side by side as one after the other.
_ENOUGH_TOKENS, _ENOUGH_PRODUCTS = 384, 2e8
# Seconds after which Python lets another thread go on: calls are short, and none should wait for many of another's.
_TURN = 2e-4


def count_lanes(decoder: Decoder, settings: TrainSettings, n_tokens: float, team: Team = ALONE) -> int:
    """Return in how many parts passes of about so many tokens are made.

    More than one where layers are single nodes that draw no random numbers, of plain weights, for others each part
    would expand anew, and the parts are large enough.
    """
    alone = team.size == 1 and torch.get_num_threads() % _LANES == 0  # else a thread would be idle
    if not alone or not settings.packing or settings.noise or settings.recompute:
        return 1
    each, spec = n_tokens / _LANES, decoder.spec
    n_weights = spec.d_model * (2 * (spec.n_heads + spec.n_kv_heads) * spec.head_dim + 3 * spec.d_ff)
    if each < _ENOUGH_TOKENS or each * n_weights < _ENOUGH_PRODUCTS:
        return 1
    training = decoder.training
    layers = training_layers(decoder.train())
    decoder.train(training)
    return _LANES if all(isinstance(layer, TrainingLayer) and layer.is_plain for layer in layers) else 1


class Lanes:
    """So many threads of Python, PyTorch's threads divided between them."""

    def __init__(self, n: int) -> None:
        self.n, self._n_before = n, 0
        self._each = max(1, torch.get_num_threads() // n)
        self._threads = [self._thread() for _ in range(n if n > 1 else 0)]

    def _thread(self) -> ThreadPoolExecutor:
        return ThreadPoolExecutor(1, initializer=torch.set_num_threads, initargs=(self._each,))

    def made(self, make: Callable[[Given], Made], parts: Sequence[Given]) -> list[Made]:
        """Return what is made of each part of a pass: side by side, or of a single one with all of PyTorch's threads.

        The next pass waits for the longest part, so that no more is held at once than of one pass. Where other threads
        made the pass before, what they freed is given back: the system's allocator keeps it for them.
        """
        n_before, self._n_before = self._n_before, len(parts)
        if n_before not in (0, len(parts)):
            give_back()
        if len(parts) == 1:
            return [make(parts[0])]
        with _divided(self._each):
            made = [thread.submit(make, one) for thread, one in zip(self._threads[: len(parts)], parts, strict=True)]
            return [future.result() for future in made]


@contextlib.contextmanager
def _divided(n_threads: int) -> Iterator[None]:
    """Let PyTorch use so many threads in each lane."""
    before, turn = torch.get_num_threads(), sys.getswitchinterval()
    torch.set_num_threads(n_threads)
    sys.setswitchinterval(_TURN)
    try:
        yield
    finally:
        torch.set_num_threads(before)
        sys.setswitchinterval(turn)
