"""Label tasks: the share of right labels, and F1 averaged over labels."""

from __future__ import annotations

from collections.abc import Callable, Sequence

import numpy as np

from .exact import plain
from .measure import Form, Measure, Reply


def figure(reply: Reply, form: Form) -> float:
    """Return 1 where the answer is the target's label, case, blanks and punctuation aside."""
    return float(plain(reply.answer) == plain(reply.target))


def macro_f1(replies: Sequence[Reply], form: Form) -> Callable[[np.ndarray], np.ndarray]:
    """Return what gives F1 averaged over the labels that stand among the targets, in each resample (resamples, rows).

    A label that a resample has neither among targets nor among answers is left out of its average.
    """
    labels = {label: place for place, label in enumerate(dict.fromkeys(plain(reply.target) for reply in replies))}
    n = len(labels)
    target = np.array([labels[plain(reply.target)] for reply in replies])
    answer = np.array([labels.get(plain(reply.answer), n) for reply in replies])
    right = np.where(answer == target, target, n)

    def averaged(counts: np.ndarray) -> np.ndarray:
        found = np.empty(len(counts))
        for place, line in enumerate(counts):
            n_right, n_wanted, n_said = (np.bincount(own, line, n + 1)[:n] for own in (right, target, answer))
            of_label = np.divide(2 * n_right, n_wanted + n_said, out=np.zeros(n), where=n_wanted + n_said > 0)
            found[place] = of_label.sum() / max(1, np.count_nonzero(n_wanted + n_said))
        return found

    return averaged


def label_pair(reply: Reply) -> tuple[str, str]:
    """Return the label of target and answer, as they are compared."""
    return plain(reply.target), plain(reply.answer)


LABEL = Measure("label", "share of answers that are the right label", 0, 1, True, figure)
F1 = Measure("f1", "F1 of each label, averaged over labels", 0, 1, True, figure, whole=macro_f1)
