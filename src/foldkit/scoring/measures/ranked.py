"""Preference pairs ranked right."""

from __future__ import annotations

from .measure import Measure, Reply


def figure(reply: Reply, pattern: str) -> float:
    """Return 1 where the target has less loss a token than the rejected reply; raises ValueError without one."""
    if not reply.n_rejected:
        raise ValueError("a row without a rejected reply")
    return float(reply.loss_sum / reply.n_tokens < reply.rejected_loss_sum / reply.n_rejected)


RANKED = Measure("ranked", "share of pairs whose chosen reply is likelier, a token", 0, 1, True, figure)
