"""Numbers within a tolerance."""

from __future__ import annotations

import re

from .measure import Form, Measure, Reply

_THOUSANDS = r"[1-9]\d{0,2}(?:,\d{3})+(?!\d)(?:\.\d+)?"
_NUMBER = re.compile(rf"((?:(?<![\w)])[-+−])?)(?:({_THOUSANDS})|(\d+(?:[.,]\d+)?))((?:[eE][-+]?\d+)?)")


def numbers(text: str) -> list[float]:
    """Return the numbers of a text in order.

    A comma before three digits parts thousands, as in 12,500; any other one before decimals counts as a point. A dash
    behind a number or a word is no sign.
    """
    return [
        float(f"{sign.replace('−', '-')}{parted.replace(',', '') or plain.replace(',', '.')}{power}")
        for sign, parted, plain, power in _NUMBER.findall(text)
    ]


def figure(reply: Reply, form: Form) -> float:
    """Return the share of the target's numbers that the answer has in the same place, within the tolerance.

    The tolerance is a share of the number. Numbers beyond those of the target count as wrong ones.
    """
    wanted, said = numbers(reply.target), numbers(reply.answer)
    if not wanted and not said:
        return 1.0
    right = sum(a == b or abs(a - b) <= form.tolerance * abs(a) for a, b in zip(wanted, said, strict=False))
    return right / max(len(wanted), len(said))


NUMBERS = Measure("numbers", "share of the target's numbers within the tolerance, in order", 0, 1, True, figure)
