"""The decoder: embedding, layers of attention and gated MLP, final norm, head.

RMS norm: Zhang and Sennrich 2019, eq. 4. Rotary positions: Su et al. 2021, eq. 34, in the half-rotated layout.
Grouped queries: Ainslie et al. 2023, section 2.2. Gated SiLU MLP: Shazeer 2020, eq. 6 (SwiGLU).
"""

from __future__ import annotations

import torch
from torch import Tensor, nn
from torch.nn import functional

from .cache import Cache
from .spec import ModelSpec


def rotary_angles(positions: Tensor, head_dim: int, base: float) -> tuple[Tensor, Tensor]:
    """Return cosines and sines, each (batch, 1, seq, head_dim / 2), for positions (batch, seq).

    Computed in float64, so that every dtype rounds the same angles.
    """
    steps = torch.arange(0, head_dim, 2, dtype=torch.float64, device=positions.device) / head_dim
    angles = positions[:, None, :, None].to(torch.float64) * base**-steps
    return angles.cos(), angles.sin()


def rotate(x: Tensor, cos: Tensor, sin: Tensor) -> Tensor:
    """Turn the two halves of the last axis of x (batch, heads, seq, head_dim) by the angles."""
    first, second = x.chunk(2, dim=-1)
    return torch.cat((first * cos - second * sin, second * cos + first * sin), dim=-1)


class Norm(nn.Module):
    """Root-mean-square norm over d_model."""

    def __init__(self, size: int, eps: float) -> None:
        super().__init__()
        self.weight = nn.Parameter(torch.ones(size))
        self.eps = eps

    def forward(self, x: Tensor) -> Tensor:
        """Map (batch, seq, d_model) to the same shape."""
        return functional.rms_norm(x, (x.shape[-1],), self.weight, self.eps)


class Attention(nn.Module):
    """Grouped-query attention with rotary positions."""

    def __init__(self, spec: ModelSpec) -> None:
        super().__init__()
        self.n_heads, self.n_kv_heads, self.head_dim = spec.n_heads, spec.n_kv_heads, spec.head_dim
        self.query = nn.Linear(spec.d_model, spec.n_heads * spec.head_dim, bias=False)
        self.key = nn.Linear(spec.d_model, spec.n_kv_heads * spec.head_dim, bias=False)
        self.value = nn.Linear(spec.d_model, spec.n_kv_heads * spec.head_dim, bias=False)
        self.out = nn.Linear(spec.n_heads * spec.head_dim, spec.d_model, bias=False)

    def forward(
        self, x: Tensor, angles: tuple[Tensor, Tensor], mask: Tensor | None, cache: Cache | None, layer: int
    ) -> Tensor:
        """Map (batch, seq, d_model) to the same shape; mask is bool (batch, 1, seq, keys), None for plain causal."""
        batch, seq, _ = x.shape
        query = rotate(self.query(x).view(batch, seq, self.n_heads, self.head_dim).transpose(1, 2), *angles)
        key = rotate(self.key(x).view(batch, seq, self.n_kv_heads, self.head_dim).transpose(1, 2), *angles)
        value = self.value(x).view(batch, seq, self.n_kv_heads, self.head_dim).transpose(1, 2)
        if cache is not None:
            key, value = cache.extend(layer, key, value)
        mixed = functional.scaled_dot_product_attention(
            query, key, value, attn_mask=mask, is_causal=mask is None, enable_gqa=self.n_heads != self.n_kv_heads
        )
        out: Tensor = self.out(mixed.transpose(1, 2).reshape(batch, seq, -1))
        return out


class GatedMlp(nn.Module):
    """down(silu(gate(x)) * up(x))."""

    def __init__(self, spec: ModelSpec) -> None:
        super().__init__()
        self.gate = nn.Linear(spec.d_model, spec.d_ff, bias=False)
        self.up = nn.Linear(spec.d_model, spec.d_ff, bias=False)
        self.down = nn.Linear(spec.d_ff, spec.d_model, bias=False)

    def forward(self, x: Tensor) -> Tensor:
        """Map (batch, seq, d_model) to the same shape."""
        out: Tensor = self.down(functional.silu(self.gate(x)) * self.up(x))
        return out


class Layer(nn.Module):
    """One block: attention and MLP, each behind its norm and added to the stream."""

    def __init__(self, spec: ModelSpec) -> None:
        super().__init__()
        self.attention_norm = Norm(spec.d_model, spec.norm_eps)
        self.attention = Attention(spec)
        self.mlp_norm = Norm(spec.d_model, spec.norm_eps)
        self.mlp = GatedMlp(spec)

    def forward(
        self, x: Tensor, angles: tuple[Tensor, Tensor], mask: Tensor | None, cache: Cache | None, layer: int
    ) -> Tensor:
        """Map the residual stream (batch, seq, d_model) to the same shape."""
        x = x + self.attention(self.attention_norm(x), angles, mask, cache, layer)
        out: Tensor = x + self.mlp(self.mlp_norm(x))
        return out


class Decoder(nn.Module):
    """A causal language model as `spec` describes it."""

    def __init__(self, spec: ModelSpec) -> None:
        super().__init__()
        self.spec = spec
        self.embedding = nn.Embedding(spec.vocab_size, spec.d_model)
        self.layers = nn.ModuleList(Layer(spec) for _ in range(spec.n_layers))
        self.norm = Norm(spec.d_model, spec.norm_eps)
        self.head = None if spec.tied_head else nn.Linear(spec.d_model, spec.vocab_size, bias=False)

    def forward(
        self, ids: Tensor, *, positions: Tensor | None = None, mask: Tensor | None = None, cache: Cache | None = None
    ) -> Tensor:
        """Return the normed stream (batch, seq, d_model) for token ids, int64 (batch, seq).

        positions: int64 (batch, seq), counting from 0 by default. mask: bool (batch, 1, seq, keys), True where a
        query may look; plain causal when None, which needs an empty cache or none.
        """
        if positions is None:
            positions = torch.arange(ids.shape[1], device=ids.device)[None]
        x = self.embedding(ids)
        cos, sin = rotary_angles(positions, self.spec.head_dim, self.spec.rope_base)
        angles = (cos.to(x.dtype), sin.to(x.dtype))
        for index, layer in enumerate(self.layers):
            x = layer(x, angles, mask, cache, index)
        out: Tensor = self.norm(x)
        return out

    def logits(self, stream: Tensor) -> Tensor:
        """Map the normed stream (..., d_model) to logits (..., vocab_size)."""
        weight = self.embedding.weight if self.head is None else self.head.weight
        return functional.linear(stream, weight)
