"""One low-rank map beside a frozen linear map: y = W x + (alpha / rank) B A x (Hu et al. 2021, section 4.1, eq. 3)."""

from __future__ import annotations

from collections.abc import Sequence

import torch
from torch import Tensor, nn
from torch.nn import functional

from foldkit.models.gating import gated_silu
from foldkit.models.held import FrozenLinear
from foldkit.models.linear import Linear, LinearMap, one_after_the_other

from .adapted import adapted


class LowRankLinear(nn.Module):
    """A frozen linear map with the pair A (rank, d_in), B (d_out, rank) added while `enabled`."""

    def __init__(
        self, frozen: Linear | FrozenLinear, rank: int, scale: float, dropout: float, dtype: torch.dtype
    ) -> None:
        super().__init__()
        self.frozen = frozen
        self.factor_a = nn.Parameter(torch.zeros(rank, frozen.in_features, dtype=dtype))
        self.factor_b = nn.Parameter(torch.zeros(frozen.out_features, rank, dtype=dtype))
        self.in_features, self.out_features = frozen.in_features, frozen.out_features
        self.scale, self.dropout, self.enabled = scale, dropout, True
        self.register_buffer("start_a", None)
        self.register_buffer("start_b", None)
        self.start_a: Tensor | None
        self.start_b: Tensor | None

    def set_start(self, factor_a: Tensor | None = None, factor_b: Tensor | None = None) -> None:
        """Start from these factors, whose own product is taken off again; from zeros that are to be filled without."""
        for factor, given in ((self.factor_a, factor_a), (self.factor_b, factor_b)):
            if given is not None:
                factor.data.copy_(given)
        self.start_a, self.start_b = self.factor_a.detach().clone(), self.factor_b.detach().clone()

    @property
    def weight(self) -> Tensor:
        """The weight of the frozen map, (d_out, d_in)."""
        return self.frozen.weight

    def forward(self, x: Tensor) -> Tensor:
        """Map (..., d_in) to (..., d_out)."""
        if self._fused(x):
            matrix = self.frozen.matrix
            (y,) = adapted((x,), matrix, [matrix], [self.scale], [self.factor_a, self.factor_b])
            return self.frozen.after(x, y)
        return self._with_low(x, self.frozen.forward(x))

    def of_gated(self, gate: Tensor, up: Tensor) -> Tensor:
        """Map silu(gate) * up, both (..., d_in), to (..., d_out)."""
        if not self._fused(gate):
            return self.forward(gated_silu(gate, up))
        matrix = self.frozen.matrix
        (y,) = adapted((gate, up), matrix, [matrix], [self.scale], [self.factor_a, self.factor_b])
        return self.frozen.after(gate, y)

    def after(self, x: Tensor, product: Tensor) -> Tensor:
        """Return what the map gives for x, the product of x and the frozen weight being known."""
        return self._with_low(x, self.frozen.after(x, product))

    def beside(self, x: Tensor, maps: Sequence[LinearMap], joined: Tensor) -> list[Tensor]:
        """Return what these maps, of which this one is the first, give; `joined` holds their weights."""
        lows = [m for m in maps if isinstance(m, LowRankLinear) and m._fused(x)]
        if len(lows) < len(maps):
            return one_after_the_other(x, maps, joined)
        factors = [factor for low in lows for factor in (low.factor_a, low.factor_b)]
        ys = adapted((x,), joined, [low.frozen.matrix for low in lows], [low.scale for low in lows], factors)
        return [low.frozen.after(x, y) for low, y in zip(lows, ys, strict=True)]

    def _fused(self, x: Tensor) -> bool:
        """Say whether the hand-written way back serves: with gradients, in one dtype, and nothing else to do."""
        special = (self.dropout and self.training) or self.start_a is not None
        return torch.is_grad_enabled() and self.enabled and not special and x.dtype == self.factor_a.dtype

    def _with_low(self, x: Tensor, y: Tensor) -> Tensor:
        if not self.enabled:
            return y
        if self.start_a is not None and self.start_b is not None:
            first = functional.linear(x.to(self.start_a.dtype), self.start_a) * self.scale
            y = y - functional.linear(first, self.start_b).to(y.dtype)
        inner = functional.dropout(x, self.dropout, self.training).to(self.factor_a.dtype)
        low = functional.linear(inner, self.factor_a) * self.scale
        if y.dtype != low.dtype:
            return y + functional.linear(low, self.factor_b).to(y.dtype)
        # One pass over y: the product with B is added as it is made.
        return torch.addmm(y.flatten(0, -2), low.flatten(0, -2), self.factor_b.T).view_as(y)
