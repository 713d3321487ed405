"""Which dtype a machine computes in: the one asked for, or the faster one of a short measurement."""

from __future__ import annotations

import time
from dataclasses import dataclass

import torch

from .held import times

# Narrower products must be this much faster, for they also round more.
_WORTH = 1.3


@dataclass(frozen=True)
class Compute:
    """The dtype that was chosen, and why."""

    dtype: torch.dtype
    reason: str

    @property
    def name(self) -> str:
        """The dtype's name, as `[base] compute` has it."""
        return str(self.dtype).removeprefix("torch.")


def chosen_compute(name: str, device: torch.device) -> Compute:
    """Return the dtype of this name; "auto" measures products in float32 and in bfloat16 there and takes the faster."""
    if name != "auto":
        return Compute(getattr(torch, name), "as asked for")
    narrow = narrow_times(device)
    return Compute(torch.bfloat16 if is_worth(narrow) else torch.float32, narrow_said(narrow, device))


def is_worth(narrow: float) -> bool:
    """Say whether products in bfloat16 that take so many times as long are fast enough for what they round."""
    return narrow * _WORTH < 1


def narrow_times(device: torch.device) -> float:
    """Return how many times as long products in bfloat16 take there as in float32."""
    wide, narrow = _seconds(device)
    return narrow / wide


def narrow_said(times: float, device: torch.device) -> str:
    """Say how long products in bfloat16 take."""
    return f"products in bfloat16 take {times:.1f} times as long as in float32 on this {device.type}"


def _seconds(device: torch.device) -> tuple[float, float]:
    """Return the best of several interleaved products in float32 and in bfloat16, at the shapes of a small MLP.

    On a processor numbers are in float32 before and after both, as `held.times` has it.
    """
    pairs = [
        (
            torch.ones(256, 576, dtype=torch.float32 if device.type == "cpu" else dtype, device=device),
            torch.ones(1536, 576, dtype=dtype, device=device),
        )
        for dtype in (torch.float32, torch.bfloat16)
    ]
    best = [float("inf"), float("inf")]
    for _ in range(8):
        for index, (x, weight) in enumerate(pairs):
            start = time.perf_counter()
            # The sum is fetched, so that a device that works aside has finished.
            times(x, weight).sum().item()
            best[index] = min(best[index], time.perf_counter() - start)
    return best[0], best[1]
