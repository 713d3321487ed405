"""Label tasks: the share of right labels, and F1 averaged over labels."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np

from .exact import plain
from .measure import Form, Measure, Reply


def figure(reply: Reply, form: Form) -> float:
    """Return 1 where the answer is the target's label, case, blanks and punctuation aside."""
    return float(plain(reply.answer) == plain(reply.target))


def macro_f1(replies: Sequence[Reply], form: Form, counts: np.ndarray) -> np.ndarray:
    """Return F1 averaged over the labels that stand among the targets, in each resample (resamples, rows).

    A label that a resample has neither among targets nor among answers is left out of its average.
    """
    labels = list(dict.fromkeys(plain(reply.target) for reply in replies))
    target = np.array([[plain(reply.target) == label for label in labels] for reply in replies], dtype=float)
    answer = np.array([[plain(reply.answer) == label for label in labels] for reply in replies], dtype=float)
    right, said = counts @ (target * answer), counts @ target + counts @ answer
    f1 = np.divide(2 * right, said, out=np.zeros_like(said), where=said > 0)
    return np.asarray(f1.sum(1) / np.maximum(1, (said > 0).sum(1)))


def label_pair(reply: Reply) -> tuple[str, str]:
    """Return the label of target and answer, as they are compared."""
    return plain(reply.target), plain(reply.answer)


LABEL = Measure("label", "share of answers that are the right label", 0, 1, True, figure)
F1 = Measure("f1", "F1 of each label, averaged over labels", 0, 1, True, figure, whole=macro_f1)
