"""How the next token is chosen from its logits: the likeliest one, or drawn after what is unlikely is left out."""

from __future__ import annotations

import random
from collections.abc import Sequence
from dataclasses import dataclass

import torch
from torch import Tensor

from foldkit.formats.settings import within


@dataclass(frozen=True)
class Sampling:
    """Temperature 0 takes the likeliest token; every prompt has draws of its own, from the seed and its place.

    `top_k` keeps that many likeliest tokens (0: all), `top_p` the fewest whose shares come to it (Holtzman et al. 2020,
    section 3.1), `min_p` those with at least that part of the likeliest one's share. `repetition` above 1 makes tokens
    that have been there less likely (Keskar et al. 2019, section 4.1).
    """

    temperature: float = 0.0
    seed: int = 0
    top_k: int = 0
    top_p: float = 1.0
    min_p: float = 0.0
    repetition: float = 1.0

    def __post_init__(self) -> None:
        within(self.seed, 0, 2**31 - 1, "sampling", "seed")
        within(self.temperature, 0, 10, "sampling", "temperature")
        within(self.top_k, 0, 2**24, "sampling", "top_k")
        within(self.top_p, 1e-6, 1, "sampling", "top_p")
        within(self.min_p, 0, 1, "sampling", "min_p")
        within(self.repetition, 0.1, 10, "sampling", "repetition")

    def draws(self, place: int) -> torch.Generator:
        """Return the draws of the prompt at this place, none alike for two seeds and places."""
        return torch.Generator().manual_seed(random.Random(f"{self.seed} {place}").getrandbits(32))


def choose(
    logits: Tensor, sampling: Sampling, draws: Sequence[torch.Generator], before: Sequence[Sequence[int]]
) -> Tensor:
    """Return a token for each row of logits (batch, vocab_size), int64 (batch,).

    `before` holds the ids that each row has had so far, its prompt included.
    """
    if sampling.repetition != 1:
        logits = repeated_less(logits, before, sampling.repetition)
    if sampling.temperature == 0:
        return logits.argmax(dim=-1)
    shares = kept_shares(torch.softmax(logits.double() / sampling.temperature, dim=-1), sampling).cpu()
    picks = [torch.multinomial(row, 1, generator=draw) for row, draw in zip(shares, draws, strict=True)]
    return torch.cat(picks).to(logits.device)


def kept_shares(shares: Tensor, sampling: Sampling) -> Tensor:
    """Return the shares (batch, vocab_size) with unlikely ones at 0, not summing to 1 any more."""
    if not sampling.top_k and sampling.top_p == 1 and not sampling.min_p:
        return shares
    ordered, order = shares.sort(dim=-1, descending=True)
    keep = torch.ones_like(ordered, dtype=torch.bool)
    if sampling.top_k:
        keep[:, sampling.top_k :] = False
    # A token is kept while those before it have not come to top_p yet.
    keep[:, 1:] &= ordered.cumsum(-1)[:, :-1] < sampling.top_p
    keep &= ordered >= sampling.min_p * ordered[:, :1]
    return torch.zeros_like(shares).scatter(-1, order, ordered * keep)


def repeated_less(logits: Tensor, before: Sequence[Sequence[int]], penalty: float) -> Tensor:
    """Return logits with those of ids that were there divided by the penalty, or multiplied where below 0."""
    logits = logits.clone()
    for row, ids in enumerate(before):
        seen = torch.tensor(sorted(set(ids)), dtype=torch.long, device=logits.device)
        values = logits[row, seen]
        logits[row, seen] = torch.where(values > 0, values / penalty, values * penalty)
    return logits
