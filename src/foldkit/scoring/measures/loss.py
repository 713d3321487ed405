"""Loss per learned token of the target."""

from __future__ import annotations

from .measure import INFINITY, Measure, Reply


def figure(reply: Reply, pattern: str) -> float:
    """Return the mean loss (nats) over the target's tokens, end marker included."""
    return reply.loss_sum / reply.n_tokens


LOSS = Measure(
    "loss", "nats per learned token of the target", 0, INFINITY, False, figure, lambda reply: float(reply.n_tokens)
)
