"""The plain loop that training is measured against: padded in order of arrival, full logits, low-rank maps apart.

Written first and then left alone. It reads the weights of a decoder of ours and shares no other code with it.
"""

from __future__ import annotations

import torch
from torch import Tensor
from torch.nn import functional

from foldkit.models import Decoder

MAPS = ("query", "key", "value", "out", "gate", "up", "down")


class PlainLoop:
    """A llama decoder with an adapter of rank 8 on every map of its layers."""

    def __init__(self, decoder: Decoder, rank: int = 8, alpha: float = 16.0) -> None:
        self.spec, self.scale = decoder.spec, alpha / rank
        self.embedding, self.norm = decoder.embedding.weight, decoder.norm.weight
        self.layers = []
        for layer in decoder.layers:
            parts = {name: getattr(layer.attention, name).weight for name in MAPS[:4]}
            parts |= {name: getattr(layer.mlp, name).weight for name in MAPS[4:]}
            parts |= {"norm 1": layer.attention_norm.weight, "norm 2": layer.mlp_norm.weight}
            for name in MAPS:
                d_out, d_in = parts[name].shape
                parts[f"{name} A"] = (torch.rand(rank, d_in) - 0.5).div(d_in**0.5).requires_grad_()
                parts[f"{name} B"] = torch.zeros(d_out, rank).requires_grad_()
            self.layers.append(parts)

    @property
    def factors(self) -> list[Tensor]:
        """What is trained."""
        return [part for parts in self.layers for part in parts.values() if part.requires_grad]

    def gradient(self, ids: Tensor, learned: Tensor, n_learned: int) -> None:
        """Add up the gradient of the mean loss over a padded micro-batch, (batch, seq)."""
        logits = self._logits(ids[:, :-1])
        targets = ids[:, 1:].masked_fill(~learned[:, 1:], -100)
        loss = functional.cross_entropy(logits.flatten(0, 1), targets.flatten(), reduction="sum")
        (loss / n_learned).backward()

    def _logits(self, ids: Tensor) -> Tensor:
        x = functional.embedding(ids, self.embedding)
        angles = torch.arange(ids.shape[1])[:, None] * self.spec.rope.frequencies().float()
        cos, sin = (torch.cat((half, half), -1) for half in (angles.cos(), angles.sin()))
        for parts in self.layers:
            x = x + self._attention(self._normed(x, parts["norm 1"]), parts, cos, sin)
            y = self._normed(x, parts["norm 2"])
            x = x + self._map(functional.silu(self._map(y, parts, "gate")) * self._map(y, parts, "up"), parts, "down")
        return functional.linear(self._normed(x, self.norm), self.embedding)

    def _normed(self, x: Tensor, weight: Tensor) -> Tensor:
        return x * torch.rsqrt(x.pow(2).mean(-1, keepdim=True) + self.spec.norm_eps) * weight

    def _map(self, x: Tensor, parts: dict[str, Tensor], name: str) -> Tensor:
        low = functional.linear(functional.linear(x, parts[f"{name} A"]), parts[f"{name} B"])
        return functional.linear(x, parts[name]) + low * self.scale

    def _attention(self, x: Tensor, parts: dict[str, Tensor], cos: Tensor, sin: Tensor) -> Tensor:
        spec = self.spec
        query, key, value = (
            self._map(x, parts, name).unflatten(-1, (-1, spec.head_dim)).transpose(1, 2) for name in MAPS[:3]
        )
        query, key = (
            t * cos + torch.cat((-t[..., spec.head_dim // 2 :], t[..., : spec.head_dim // 2]), -1) * sin
            for t in (query, key)
        )
        times = spec.n_heads // spec.n_kv_heads
        key, value = (t.repeat_interleave(times, dim=1) for t in (key, value))
        mixed = functional.scaled_dot_product_attention(query, key, value, is_causal=True)
        return self._map(mixed.transpose(1, 2).flatten(2), parts, "out")
