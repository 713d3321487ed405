"""The running average of what is trained: what is validated and saved in its place, where the settings ask for one."""

from __future__ import annotations

import contextlib
from collections.abc import Iterator, Sequence

import torch
from torch import Tensor


class Average:
    """An average over steps in which each earlier one counts `keep` times as much as the next; with 0 there is none.

    Where factors began has no part in it, as in Adam's moments (Kingma and Ba 2015, section 3). `values` are of the
    shapes of the factors, and empty where there is no average.
    """

    def __init__(self, factors: Sequence[Tensor], keep: float) -> None:
        self.keep, self.factors = keep, list(factors) if keep else []
        self.values = [factor.detach().clone() for factor in self.factors]

    def take(self, n_steps: int) -> None:
        """Take the factors in as they are after so many steps."""
        for value, factor in zip(self.values, self.factors, strict=True):
            value.lerp_(factor.detach(), (1 - self.keep) / (1 - self.keep**n_steps))

    @contextlib.contextmanager
    def in_place(self) -> Iterator[None]:
        """Let the average stand in the place of the factors within a `with` block."""
        self._exchange()
        try:
            yield
        finally:
            self._exchange()

    @torch.no_grad()
    def _exchange(self) -> None:
        """Let factors and average change places, one after the other, so that no more than one is held twice."""
        for value, factor in zip(self.values, self.factors, strict=True):
            own = factor.clone()
            factor.copy_(value)
            value.copy_(own)
