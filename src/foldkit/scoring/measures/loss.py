"""What the target costs: loss per learned token, perplexity, bits per character, and the share of likeliest tokens."""

from __future__ import annotations

import math

from .measure import INFINITY, Form, Measure, Reply


def figure(reply: Reply, form: Form) -> float:
    """Return the mean loss (nats) over the target's tokens, end marker included."""
    return sum(reply.losses) / len(reply.losses)


def bits(reply: Reply, form: Form) -> float:
    """Return the loss in bits over the target's characters; it does not depend on how a tokenizer cuts the text."""
    return sum(reply.losses) / math.log(2) / max(1, len(reply.target))


def tokens(reply: Reply, form: Form) -> float:
    """Return the share of the target's tokens that were the likeliest."""
    return sum(reply.hits) / len(reply.hits)


def _by_token(reply: Reply) -> float:
    return float(len(reply.losses))


def _by_character(reply: Reply) -> float:
    return float(max(1, len(reply.target)))


LOSS = Measure("loss", "nats per learned token of the target", 0, INFINITY, False, figure, _by_token, needs="losses")
PERPLEXITY = Measure(
    "perplexity", "e to the loss per learned token", 1, INFINITY, False, figure, _by_token, math.exp, needs="losses"
)
BITS = Measure(
    "bits", "bits per character of the target, any tokenizer", 0, INFINITY, False, bits, _by_character, needs="losses"
)
TOKENS = Measure(
    "tokens", "share of the target's tokens that were the likeliest", 0, 1, True, tokens, _by_token, needs="hits"
)
