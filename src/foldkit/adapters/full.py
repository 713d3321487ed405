"""An embedding or a head that is trained whole: a copy of the base's, used in its place while `enabled`."""

from __future__ import annotations

import torch
from torch import Tensor, nn
from torch.nn import functional

from foldkit.models.decoder import Embedding
from foldkit.models.held import FrozenEmbedding, FrozenLinear
from foldkit.models.linear import Linear, linear


class FullEmbedding(nn.Module):
    """A trained table (vocab_size, d_model) in place of the frozen one, for tied logits too."""

    def __init__(self, frozen: Embedding | FrozenEmbedding, dtype: torch.dtype, compute: torch.dtype) -> None:
        super().__init__()
        self.frozen, self.compute, self.enabled = frozen, compute, True
        self.weight = nn.Parameter(frozen.weight.detach().to(dtype, copy=True, memory_format=torch.contiguous_format))

    def forward(self, ids: Tensor) -> Tensor:
        """Map int64 (...) to (..., d_model)."""
        if not self.enabled:
            found: Tensor = self.frozen(ids)
            return found
        return functional.embedding(ids, self.weight).to(self.compute)

    def logits(self, stream: Tensor) -> Tensor:
        """Map the stream (..., d_model) to logits (..., vocab_size) by the same table."""
        return linear(stream, self.weight.to(stream.dtype)) if self.enabled else self.frozen.logits(stream)


class FullHead(nn.Module):
    """A trained head (vocab_size, d_model) in place of the frozen one."""

    def __init__(self, frozen: Linear | FrozenLinear, dtype: torch.dtype) -> None:
        super().__init__()
        self.frozen, self.enabled = frozen, True
        self.weight = nn.Parameter(frozen.weight.detach().to(dtype, copy=True, memory_format=torch.contiguous_format))

    def forward(self, stream: Tensor) -> Tensor:
        """Map the stream (..., d_model) to logits (..., vocab_size)."""
        return linear(stream, self.weight.to(stream.dtype)) if self.enabled else self.frozen.forward(stream)
