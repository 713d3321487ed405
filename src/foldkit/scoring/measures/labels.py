"""Label tasks: the share of right labels, and F1 averaged over labels."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np

from .exact import plain
from .measure import Form, Measure, Reply, Sums


def figure(reply: Reply, form: Form) -> float:
    """Return 1 where the answer is the target's label, case, blanks and punctuation aside."""
    return float(plain(reply.answer) == plain(reply.target))


def macro_f1(replies: Sequence[Reply], form: Form) -> Sums:
    """Return what F1 hangs on: of each label among the targets how often it is right, and how often wanted or said.

    F1 is averaged over labels; one that is neither wanted nor said where it is taken is left out of its average.
    """
    from scipy.sparse import csr_array

    labels = {label: place for place, label in enumerate(dict.fromkeys(plain(reply.target) for reply in replies))}
    n = len(labels)
    target = np.array([labels[plain(reply.target)] for reply in replies])
    answer = np.array([labels.get(plain(reply.answer), n) for reply in replies])
    (right,), rows, (known,) = np.nonzero(answer == target), np.arange(len(replies)), np.nonzero(answer < n)
    columns = np.concatenate([target[right], n + target, n + answer[known]])
    of_rows = np.concatenate([right, rows, known])
    return Sums(csr_array((np.ones(len(columns)), (of_rows, columns)), shape=(len(replies), 2 * n)), _averaged)


def _averaged(sums: np.ndarray) -> np.ndarray:
    n_right, n_both = np.split(sums, 2, axis=1)
    of_label = np.divide(2 * n_right, n_both, out=np.zeros_like(n_both), where=n_both > 0)
    return np.asarray(of_label.sum(1) / np.maximum(1, np.count_nonzero(n_both, axis=1)))


def label_pair(reply: Reply) -> tuple[str, str]:
    """Return the label of target and answer, as they are compared."""
    return plain(reply.target), plain(reply.answer)


LABEL = Measure("label", "share of answers that are the right label", 0, 1, True, figure)
F1 = Measure("f1", "F1 of each label, averaged over labels", 0, 1, True, figure, sums=macro_f1)
