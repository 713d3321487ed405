"""What to change where a training does not fit into memory, the least harm first."""

from __future__ import annotations

import bisect
import dataclasses
import math
from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from typing import NamedTuple

from foldkit.adapters.attaching import Adapter
from foldkit.datasets import Example, token_counts
from foldkit.models.decoder import Decoder

from .costs import PassCost
from .fitting import LESS, MemoryWith, memory_of_steps, until_it_fits
from .settings import TrainSettings

# A shorter window leaves out so many rows at most, and is spoken of where it is so much shorter than the longest one.
_LEFT_OUT, _SHORTER, _ROUND = 0.01, 0.75, 64


@dataclass(frozen=True)
class Change:
    """A change of settings that takes less memory, what it costs, and the peak with it and all before it."""

    setting: str
    costs: str
    peak: float


class ShorterWindow(NamedTuple):
    """A window that few rows do not fit, what it costs, and what tells the memory of the others."""

    window: int
    costs: str
    memory_with: MemoryWith


def shorter_window(
    decoder: Decoder,
    adapter: Adapter,
    train: Sequence[Example],
    steps: Sequence[Sequence[Example]],
    cost: PassCost,
) -> ShorterWindow | None:
    """Return a window that a hundredth of the rows at most do not fit, None where no row is much longer than others.

    Memory is that of these steps without those rows.
    """
    lengths = sorted(token_counts(train))
    n_left = max(1, int(_LEFT_OUT * len(lengths)))
    window = math.ceil(lengths[-1 - n_left] / _ROUND) * _ROUND if n_left < len(lengths) else lengths[-1]
    if window > _SHORTER * lengths[-1]:
        return None
    within = [[one for one in step if one.n_tokens <= window] for step in steps]
    n_longer = len(lengths) - bisect.bisect_right(lengths, window)
    costs = f"{n_longer:,} of {len(lengths):,} rows, which are longer"
    return ShorterWindow(window, costs, memory_of_steps(decoder, adapter, list(filter(None, within)), cost))


def changes_for(
    settings: TrainSettings,
    n_matrices: int,
    memory_with: MemoryWith,
    free_bytes: int,
    shorter: ShorterWindow | None,
) -> Iterator[Change]:
    """Yield what takes less memory, the least harm first; what changes nothing but time before what changes results."""
    settings, fewer = _fewer_at_once(settings, memory_with, free_bytes)
    yield from fewer
    if not settings.recompute:
        settings = dataclasses.replace(settings, recompute=True)
        yield Change("train.recompute=true", "a third more time", memory_with(settings).peak)
    if shorter:
        memory_with = shorter.memory_with
        yield Change(f"train.window={shorter.window}", shorter.costs, memory_with(settings).peak)
        settings, fewer = _fewer_at_once(settings, memory_with, free_bytes)
        yield from fewer
    least = memory_with(settings)
    for weights, n_bytes, costs in (("int8", 1.01, "a little exactness"), ("nf4", 0.53, "some exactness")):
        held = n_bytes * n_matrices
        if held < 0.9 * least.weights:
            yield Change(f"base.weights={weights}", costs, least.peak - least.weights + held)


def _fewer_at_once(
    settings: TrainSettings, memory_with: MemoryWith, free_bytes: int
) -> tuple[TrainSettings, list[Change]]:
    """Return the same with fewer examples at once, and that change; none where it takes no less, as of a long one."""
    if settings.n_micro == 1:
        return settings, []
    half = dataclasses.replace(settings, micro_batch=settings.n_micro // 2)
    fewer = until_it_fits(half, memory_with, free_bytes)
    memory = memory_with(fewer)
    if memory.activations >= LESS * memory_with(settings).activations:
        return settings, []
    return fewer, [Change(f"train.micro_batch={fewer.n_micro}", "time", memory.peak)]
