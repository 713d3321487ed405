"""Label tasks: the share of right labels, and F1 averaged over labels."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from typing import TYPE_CHECKING

import numpy as np

from .exact import plain
from .measure import Form, Measure, Reply

if TYPE_CHECKING:
    from scipy.sparse import csr_array


def figure(reply: Reply, form: Form) -> float:
    """Return 1 where the answer is the target's label, case, blanks and punctuation aside."""
    return float(plain(reply.answer) == plain(reply.target))


def macro_f1(replies: Sequence[Reply], form: Form) -> Callable[[np.ndarray], np.ndarray]:
    """Return what gives F1 averaged over the labels that stand among the targets, in each resample (resamples, rows).

    A label that a resample has neither among targets nor among answers is left out of its average.
    """
    labels = {label: place for place, label in enumerate(dict.fromkeys(plain(reply.target) for reply in replies))}
    target = np.array([labels[plain(reply.target)] for reply in replies])
    answer = np.array([labels.get(plain(reply.answer), -1) for reply in replies])
    right_ones = _table(np.where(answer == target, target, -1), len(labels))
    said_ones = _table(target, len(labels)) + _table(answer, len(labels))

    def averaged(counts: np.ndarray) -> np.ndarray:
        right, said = counts @ right_ones, counts @ said_ones
        f1 = np.divide(2 * right, said, out=np.zeros_like(said), where=said > 0)
        return np.asarray(f1.sum(1) / np.maximum(1, (said > 0).sum(1)))

    return averaged


def _table(places: np.ndarray, n_labels: int) -> csr_array:
    """Return a 1 in each row (rows, labels) at the place of its label; a row of -1 has none."""
    from scipy.sparse import csr_array

    rows = np.flatnonzero(places >= 0)
    return csr_array((np.ones(len(rows)), (rows, places[rows])), shape=(len(places), n_labels))


def label_pair(reply: Reply) -> tuple[str, str]:
    """Return the label of target and answer, as they are compared."""
    return plain(reply.target), plain(reply.answer)


LABEL = Measure("label", "share of answers that are the right label", 0, 1, True, figure)
F1 = Measure("f1", "F1 of each label, averaged over labels", 0, 1, True, figure, whole=macro_f1)
