"""AdamW over what is trained of an adapter; B, and what is trained whole, at rates of their own."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Mapping

import torch
from torch import Tensor
from torch.optim.adamw import adamw

from foldkit.adapters.attaching import Adapter
from foldkit.adapters.settings import WHOLE

from .settings import TrainSettings

# PyTorch's own.
_EPS = 1e-8


class Optimiser:
    """AdamW (Loshchilov and Hutter 2019, algorithm 2), factors B at `rate_ratio` times the rate (Hayou et al. 2024).

    Whole matrices move at `full_ratio` times the rate: Adam moves each row of them about as far, that of a token which
    no example has too, for the softmax gives it some gradient. Only factors decay: a length or a whole matrix that
    shrinks to zero takes the base away, not what was learned. PyTorch's function runs it: a PyTorch optimiser would
    load its compiler first, 1.3 to 2 s and 72 MB. `state` has the moments of each factor that has made a step: `step`
    (), `exp_avg` and `exp_avg_sq` of its shape.
    """

    def __init__(self, adapter: Adapter, settings: TrainSettings) -> None:
        trained, decay = adapter.trained(), settings.weight_decay
        firsts, seconds = ([v for name, v in trained.items() if name.endswith(end)] for end in (".A", ".B"))
        whole = [value for name, value in trained.items() if name in WHOLE]
        lengths = [value for name, value in trained.items() if not name.endswith((".A", ".B")) and name not in WHOLE]
        self.settings = settings
        self.groups = (
            (firsts, 1.0, decay),
            (seconds, settings.rate_ratio, decay),
            (lengths, 1.0, 0.0),
            (whole, settings.full_ratio, 0.0),
        )
        self.state: defaultdict[Tensor, dict[str, Tensor]] = defaultdict(dict)

    @torch.no_grad()
    def step(self, rate: float) -> None:
        """Move each factor that has a gradient, at this learning rate."""
        for group, ratio, decay in self.groups:
            given = [(factor, factor.grad) for factor in group if factor.grad is not None]
            moments = [self._moments(factor) for factor, _ in given]
            adamw(
                [factor for factor, _ in given],
                [gradient for _, gradient in given],
                [moment["exp_avg"] for moment in moments],
                [moment["exp_avg_sq"] for moment in moments],
                [],
                [moment["step"] for moment in moments],
                amsgrad=False,
                beta1=self.settings.beta1,
                beta2=self.settings.beta2,
                lr=rate * ratio,
                weight_decay=decay,
                eps=_EPS,
                maximize=False,
            )

    def _moments(self, factor: Tensor) -> dict[str, Tensor]:
        """Return the moments of a factor, which are zero at first."""
        found = self.state[factor]
        if not found:
            found["step"] = torch.zeros(())
            found["exp_avg"], found["exp_avg_sq"] = torch.zeros_like(factor), torch.zeros_like(factor)
        return found

    def take(self, factor: Tensor, moments: Mapping[str, Tensor]) -> None:
        """Take over copies of the moments of a factor; the count of steps stays with the processor."""
        self.state[factor] = {
            name: value.to("cpu" if name == "step" else factor.device, copy=True) for name, value in moments.items()
        }

    def drop(self) -> None:
        """Forget the gradient."""
        for group, _, _ in self.groups:
            for factor in group:
                factor.grad = None
