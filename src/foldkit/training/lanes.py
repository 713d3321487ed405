"""Parts of a pass side by side, each in a thread of this process, on a CPU.

PyTorch divides each call between its threads and waits for the last of them before the next. Parts that have a thread
each wait for one another once a pass, and while one goes through memory another multiplies.
"""

from __future__ import annotations

import contextlib
import sys
from collections import deque
from collections.abc import Callable, Iterator, Sequence
from concurrent.futures import Future, ThreadPoolExecutor
from typing import TypeVar

import torch

from foldkit.models.decoder import Decoder
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
    alone = team.size == 1 and torch.get_num_threads() >= _LANES
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
        self.n = n
        self._each = max(1, torch.get_num_threads() // n)
        self._threads = [self._thread() for _ in range(n if n > 1 else 0)]

    def _thread(self) -> ThreadPoolExecutor:
        return ThreadPoolExecutor(1, initializer=torch.set_num_threads, initargs=(self._each,))

    def made(self, make: Callable[[Given], Made], given: Sequence[Given]) -> Iterator[Made]:
        """Yield what is made of each, in their order, so many at once.

        Each thread begins with the same one every time, the first with the first, which has the longest example, and
        goes on with any: an allocator may keep what a thread frees for that thread, and each would in time keep as much
        as the longest example takes.
        """
        if not self._threads:
            yield from map(make, given)
            return
        todo = deque((Future[Made](), one) for one in given)
        made = deque(future for future, _ in todo)

        def work(future: Future[Made], one: Given) -> None:
            _settle(future, make, one)
            with contextlib.suppress(IndexError):  # where none is left
                while True:
                    future, one = todo.popleft()
                    _settle(future, make, one)

        with _divided(self._each):
            first = [todo.popleft() for _ in self._threads[: len(given)]]
            for thread, (future, one) in zip(self._threads, first, strict=False):
                thread.submit(work, future, one)
            try:
                while made:
                    yield made.popleft().result()
            finally:
                todo.clear()


def _settle(future: Future[Made], make: Callable[[Given], Made], given: Given) -> None:
    """Put into the future what is made of it, or what went wrong."""
    try:
        future.set_result(make(given))
    except BaseException as error:
        future.set_exception(error)


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
