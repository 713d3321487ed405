"""The linear map of all layers, in the form that is fastest for as many rows as there are."""

from __future__ import annotations

import torch
from torch import Tensor, nn
from torch.nn import functional

# For as many rows the product is taken with the matrix on the left. Measured on a CPU with 1,536 x 576: 16 rows in 290
# microseconds instead of 900, 32 in 470 instead of 1,270; with 4 rows and with 64 it is the slower way.
_FEW = range(5, 49)


def linear(x: Tensor, weight: Tensor, bias: Tensor | None = None) -> Tensor:
    """Map x (..., d_in) by weight (d_out, d_in) to (..., d_out); only the order of its sums depends on the rows."""
    n_rows = x.numel() // x.shape[-1]
    if torch.is_grad_enabled() or x.device.type != "cpu" or n_rows not in _FEW:
        return functional.linear(x, weight, bias)
    y = (weight @ x.reshape(n_rows, -1).T).T.reshape(*x.shape[:-1], len(weight))
    return y if bias is None else y + bias


class Linear(nn.Linear):
    """A linear map without a start of its own: its weights are always given."""

    def reset_parameters(self) -> None:
        """Leave the weights as they are."""

    def forward(self, x: Tensor) -> Tensor:
        """Map (..., d_in) to (..., d_out)."""
        return linear(x, self.weight, self.bias)
