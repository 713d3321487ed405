"""AdamW over what is trained of an adapter, B's at a rate of their own."""

from __future__ import annotations

import torch

from foldkit.adapters.attaching import Adapter

from .settings import TrainSettings


def make_optimiser(adapter: Adapter, settings: TrainSettings) -> torch.optim.AdamW:
    """Return AdamW (Loshchilov and Hutter 2019) with factors B at `rate_ratio` times the rate (Hayou et al. 2024)."""
    trained = adapter.trained()
    seconds = [value for name, value in trained.items() if name.endswith(".B")]
    firsts = [value for name, value in trained.items() if not name.endswith(".B")]
    groups = [{"params": firsts, "ratio": 1.0}, {"params": seconds, "ratio": settings.rate_ratio}]
    betas = (settings.beta1, settings.beta2)
    return torch.optim.AdamW(groups, lr=settings.learning_rate, weight_decay=settings.weight_decay, betas=betas)


def set_rate(optimiser: torch.optim.Optimizer, rate: float) -> None:
    """Set the learning rate of the next step."""
    for group in optimiser.param_groups:
        group["lr"] = rate * group["ratio"]
