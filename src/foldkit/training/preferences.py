"""Objectives over a better and a worse reply: pure functions of log-probabilities, in one registry.

Each returns a sum over its items and their count, so that passes of a batch add up. With pi the trained model, ref the
reference, w the chosen and l the rejected reply to x, and h = log pi(w)/ref(w) - log pi(l)/ref(l):

- odds: Hong et al. 2024, eq. 6 and 7. direct: Rafailov et al. 2023, eq. 7; with doubt: Mitchell 2023, eq. 3.
- identity: Azar et al. 2023, eq. 17. margin: Meng et al. 2024, eq. 6. unpaired: Ethayarajh et al. 2024, eq. 8.
"""

from __future__ import annotations

import math
from collections.abc import Callable
from typing import NamedTuple

import torch
from torch import Tensor
from torch.nn.functional import logsigmoid

from .settings import PairSettings


class LogProbs(NamedTuple):
    """Summed log-probabilities (nats) of both replies of n pairs, (n,) each, and their tokens, (n,) each."""

    chosen: Tensor
    rejected: Tensor
    n_chosen: Tensor
    n_rejected: Tensor


class Outcome(NamedTuple):
    """A summed loss (a scalar), the items it is of, and how far each pair is ranked right by the objective, (n,)."""

    total: Tensor
    n_items: int
    margins: Tensor


Objective = Callable[[LogProbs, LogProbs, PairSettings, float], Outcome]


def odds(policy: LogProbs, reference: LogProbs, settings: PairSettings, baseline: float) -> Outcome:
    """Learn the chosen reply, and raise its odds over those of the rejected one, in one stage and without a reference.

    -log p(w) - strength * log sigmoid(log odds(w) - log odds(l)), with odds(y) = p(y) / (1 - p(y)) and p(y) the
    geometric mean of the probabilities of the tokens of y.
    """
    chosen, rejected = policy.chosen / policy.n_chosen, policy.rejected / policy.n_rejected
    margins = (chosen - log_rest(chosen)) - (rejected - log_rest(rejected))
    losses = -chosen - settings.strength_of("odds") * logsigmoid(margins)
    return Outcome(losses.sum(), len(losses), margins.detach())


def direct(policy: LogProbs, reference: LogProbs, settings: PairSettings, baseline: float) -> Outcome:
    """Return -log sigmoid(strength * h); with `doubt` e, (1 - e) of that and e of the loss of the pair turned round."""
    margins = settings.strength_of("direct") * _h(policy, reference)
    losses = -(1 - settings.doubt) * logsigmoid(margins) - settings.doubt * logsigmoid(-margins)
    return Outcome(losses.sum(), len(losses), margins.detach())


def identity(policy: LogProbs, reference: LogProbs, settings: PairSettings, baseline: float) -> Outcome:
    """Return (h - 1 / (2 strength))²: h is to reach a distance, and no more."""
    h = _h(policy, reference)
    losses = (h - 1 / (2 * settings.strength_of("identity"))).square()
    return Outcome(losses.sum(), len(losses), h.detach())


def margin(policy: LogProbs, reference: LogProbs, settings: PairSettings, baseline: float) -> Outcome:
    """Return -log sigmoid(strength * (log p(w) a token - log p(l) a token) - margin), without a reference."""
    by_token = policy.chosen / policy.n_chosen - policy.rejected / policy.n_rejected
    margins = settings.strength_of("margin") * by_token - settings.margin
    return Outcome(-logsigmoid(margins).sum(), len(margins), margins.detach())


def unpaired(policy: LogProbs, reference: LogProbs, settings: PairSettings, baseline: float) -> Outcome:
    """Return good * (1 - sigmoid(strength * (r(w) - z))) and bad * (1 - sigmoid(strength * (z - r(l)))) of each row.

    Each reply is an item; one of the two may be missing, and has no tokens then. r = log pi / ref; z, the baseline,
    estimates how far both are apart over the whole batch.
    """
    strength = settings.strength_of("unpaired")
    good, bad = policy.chosen - reference.chosen, policy.rejected - reference.rejected
    of_good = settings.good * (1 - torch.sigmoid(strength * (good - baseline)))
    of_bad = settings.bad * (1 - torch.sigmoid(strength * (baseline - bad)))
    has_good, has_bad = policy.n_chosen > 0, policy.n_rejected > 0
    total = (of_good * has_good).sum() + (of_bad * has_bad).sum()
    return Outcome(total, int(has_good.sum() + has_bad.sum()), (strength * (good - bad)).detach())


OBJECTIVES: dict[str, Objective] = {
    "odds": odds,
    "direct": direct,
    "identity": identity,
    "margin": margin,
    "unpaired": unpaired,
}


def log_rest(log_p: Tensor) -> Tensor:
    """Return log(1 - exp(log_p)) for log_p < 0, exact near both ends (Mächler 2012, eq. 7)."""
    log_p = log_p.clamp_max(-torch.finfo(log_p.dtype).eps)
    near = log_p > -math.log(2)
    # Each side gets harmless values where the other is used, so that no gradient is not a number.
    small = torch.log(-torch.expm1(torch.where(near, log_p, -1.0)))
    large = torch.log1p(-torch.exp(torch.where(near, -1.0, log_p)))
    return torch.where(near, small, large)


def _h(policy: LogProbs, reference: LogProbs) -> Tensor:
    return (policy.chosen - reference.chosen) - (policy.rejected - reference.rejected)
