"""Preference pairs ranked right."""

from __future__ import annotations

from .measure import Form, Measure, Reply


def figure(reply: Reply, form: Form) -> float:
    """Return 1 where the target has less loss a token than the rejected reply; raises ValueError without one."""
    if not reply.rejected:
        raise ValueError("a row without a rejected reply")
    return float(sum(reply.losses) / len(reply.losses) < sum(reply.rejected) / len(reply.rejected))


RANKED = Measure(
    "ranked", "share of pairs whose chosen reply is likelier, a token", 0, 1, True, figure, needs="rejected"
)
