"""One low-rank map beside a frozen linear map: y = W x + (alpha / rank) B A x (Hu et al. 2021, section 4.1, eq. 3).

Or its magnitude form: each row of W + (alpha / rank) B A, brought to length 1, times a trained length (Liu et al. 2024,
eq. 5; a column there is a row here, all that makes one output).
"""

from __future__ import annotations

from collections.abc import Sequence

import torch
from torch import Tensor, nn
from torch.nn import functional

from foldkit.models.activating import activated
from foldkit.models.dropout import drawn, scale_of
from foldkit.models.held import FrozenLinear, Parts, times
from foldkit.models.linear import Linear, LinearMap, one_after_the_other
from foldkit.models.pairs import Pair

from .adapted import adapted


class LowRankLinear(nn.Module):
    """A frozen linear map with the pair A (rank, d_in), B (d_out, rank) added while `enabled`.

    A second pair, `frozen_a` (rank_2, d_in) and `frozen_b` (d_out, rank_2), may be added too, which is not trained.
    """

    def __init__(
        self, frozen: Linear | FrozenLinear, rank: int, scale: float, dropout: float, dtype: torch.dtype
    ) -> None:
        super().__init__()
        self.frozen = frozen
        self.factor_a = nn.Parameter(torch.zeros(rank, frozen.in_features, dtype=dtype))
        self.factor_b = nn.Parameter(torch.zeros(frozen.out_features, rank, dtype=dtype))
        self.magnitude: nn.Parameter | None = None
        self.in_features, self.out_features = frozen.in_features, frozen.out_features
        self.scale, self.dropout, self.enabled = scale, dropout, True
        for name in ("frozen_a", "frozen_b", "row_squares"):
            self.register_buffer(name, None)
        self.frozen_a: Tensor | None
        self.frozen_b: Tensor | None
        self.row_squares: Tensor | None
        self._kept_ratio: Tensor | None = None

    def start_from(self, factor_a: Tensor, factor_b: Tensor) -> None:
        """Start from these factors, whose own product is taken off again by a frozen pair."""
        self.factor_a.data.copy_(factor_a)
        self.factor_b.data.copy_(factor_b)
        self.add_frozen(self.factor_a.detach().clone(), -self.scale * self.factor_b.detach())

    def add_frozen(self, factor_a: Tensor, factor_b: Tensor) -> None:
        """Add B A of this pair to all that the map gives, beside a pair that is there already."""
        more_a, more_b = factor_a.to(self.factor_a), factor_b.to(self.factor_b)
        self.frozen_a = more_a if self.frozen_a is None else torch.cat((self.frozen_a, more_a))
        self.frozen_b = more_b if self.frozen_b is None else torch.cat((self.frozen_b, more_b), dim=1)

    def train_magnitude(self) -> None:
        """Take the magnitude form, the lengths of the frozen rows its start."""
        weight = self.frozen.weight.to(self.factor_a.dtype)
        self.row_squares = weight.square().sum(1)
        self.magnitude = nn.Parameter(self.row_squares.sqrt())

    def parts(self) -> Parts | None:
        """Return what the map is as it stands now, None where it is more than products and a bias."""
        if not self.enabled:
            return self.frozen.parts()
        if self.magnitude is not None or self._drops_beside:
            return None
        return Parts(self.frozen.matrix, self.frozen.bias, *self._scaled_pair(), self._dropout)

    def trained(self) -> dict[str, nn.Parameter]:
        """Return what is trained, by its name in an adapter file."""
        found = {"A": self.factor_a, "B": self.factor_b, "magnitude": self.magnitude}
        return {name: value for name, value in found.items() if value is not None and value.numel()}

    def train(self, mode: bool = True) -> LowRankLinear:
        """Turn to training or away from it; lengths of rows that were kept are found again."""
        self._kept_ratio = None
        return super().train(mode)

    @property
    def weight(self) -> Tensor:
        """The weight of the frozen map, (d_out, d_in)."""
        return self.frozen.weight

    def forward(self, x: Tensor) -> Tensor:
        """Map (..., d_in) to (..., d_out)."""
        return self._fused_of((x,)) if self._fused else self.after(x, self.frozen.product(x))

    def of_activated(self, parts: Sequence[Tensor], activation: str) -> Tensor:
        """Map what an MLP's parts come to, each (..., d_in), to (..., d_out)."""
        return self._fused_of(parts, activation) if self._fused else self.forward(activated(parts, activation))

    def after(self, x: Tensor, product: Tensor) -> Tensor:
        """Return what the map gives for x, the product of x and the frozen weight being known."""
        return self._finished(x, self._with_low(x, product) if self.enabled else product)

    def beside(self, x: Tensor, maps: Sequence[LinearMap], joined: Tensor) -> list[Tensor]:
        """Return what these maps, of which this one is the first, give; `joined` holds their weights."""
        lows = [m for m in maps if isinstance(m, LowRankLinear) and m._fused]
        if len(lows) < len(maps):
            return one_after_the_other(x, maps, joined)
        factors = [factor for low in lows for factor in low._scaled_pair()]
        ys = adapted((x,), joined, [low.frozen.matrix for low in lows], factors, dropout=lows[0]._dropout)
        return [low._finished(x, y) for low, y in zip(lows, ys, strict=True)]

    @property
    def _fused(self) -> bool:
        """Whether the hand-written way back serves: with gradients, and nothing else to do."""
        return torch.is_grad_enabled() and self.enabled and not self._drops_beside

    @property
    def _dropout(self) -> float:
        """The share of what goes in that the trained pair is not given now."""
        return self.dropout if self.training else 0.0

    @property
    def _drops_beside(self) -> bool:
        """Whether the trained pair is not given all that the one beside it is."""
        return bool(self._dropout) and self.frozen_a is not None

    def _fused_of(self, inputs: Sequence[Tensor], activation: str = "") -> Tensor:
        matrix = self.frozen.matrix
        (y,) = adapted(inputs, matrix, [matrix], self._scaled_pair(), activation, self._dropout)
        return self._finished(inputs[0], y)

    def _pair(self) -> tuple[Tensor, Tensor, float]:
        """Return A and B of all that is added, and what their product is multiplied by."""
        if self.frozen_a is None or self.frozen_b is None:
            return self.factor_a, self.factor_b, self.scale
        b = torch.cat((self.scale * self.factor_b, self.frozen_b), dim=1)
        return torch.cat((self.factor_a, self.frozen_a)), b, 1.0

    def _scaled_pair(self) -> Pair:
        a, b, scale = self._pair()
        return a, b if scale == 1 else scale * b

    def _with_low(self, x: Tensor, y: Tensor) -> Tensor:
        stays = drawn(x, self._dropout)
        if stays is None:
            return _added(y, x, *self._pair())
        y = _added(y, x * stays, self.factor_a, self.factor_b, self.scale * scale_of(self._dropout))
        if self.frozen_a is not None and self.frozen_b is not None:
            y = _added(y, x, self.frozen_a, self.frozen_b, 1.0)
        return y

    def _finished(self, x: Tensor, y: Tensor) -> Tensor:
        """Bring the sum of both products to its magnitude, where it has one, and add what the frozen map adds."""
        if self.magnitude is not None and self.row_squares is not None and self.enabled:
            # Not by a ratio in 16 bits, which near 1 has steps of a half percent.
            y = (y * self._ratio(self.magnitude, self.row_squares)).to(y.dtype)
        return self.frozen.after(x, y)

    def _ratio(self, magnitude: Tensor, row_squares: Tensor) -> Tensor:
        """Return the trained length of each row over the one it has, (d_out,), the latter without gradient.

        Liu et al. 2024, section 4.3. |w + s b A|² = |w|² + 2 s b A w + s² b A A' b', so that W + s B A is never made.
        """
        if self._kept_ratio is not None and not torch.is_grad_enabled():
            return self._kept_ratio
        with torch.no_grad():
            a, b, matrix = self.factor_a, self.factor_b, self.frozen.matrix
            mixed = times(a, matrix.to(a.dtype) if isinstance(matrix, Tensor) else matrix).T
            squares = row_squares + (b * (2 * self.scale * mixed + self.scale**2 * (b @ (a @ a.T)))).sum(1)
            lengths = squares.sqrt().clamp_min(torch.finfo(b.dtype).tiny)
        ratio = magnitude / lengths
        if not self.training and not torch.is_grad_enabled():
            self._kept_ratio = ratio
        return ratio


def _added(y: Tensor, x: Tensor, a: Tensor, b: Tensor, scale: float) -> Tensor:
    """Return y (..., d_out) plus scale * B A x for x (..., d_in), in the dtype of y."""
    low = functional.linear(x.to(a.dtype), a)
    low = low if scale == 1 else low * scale
    if y.dtype != low.dtype:
        return y + functional.linear(low, b).to(y.dtype)
    # One pass over y: the product with B is added as it is made.
    return torch.addmm(y.flatten(0, -2), low.flatten(0, -2), b.T).view_as(y)
