"""Layers of the commonest form in the fewest calls, for steps of one token a row.

Such a step is mostly reading weights, and what is not is calls: those of `Layer.forward` take a fifth of it. The form:
RMS norms before attention and MLP, plain weights side by side, no norm of heads, a gated SiLU.
"""

from __future__ import annotations

from collections.abc import Callable, Sequence
from typing import NamedTuple, cast

import torch
from torch import Tensor, nn
from torch.nn import functional

from .attention import attend
from .cache import Slot
from .decoder import Angles, Decoder, Layer, Norm
from .gating import gated_silu
from .linear import Linear, holds, linear
from .norms import frozen_rms_norm
from .rotary import rotate
from .spec import ModelSpec

Matrix = tuple[Tensor, Tensor | None]


class QuickLayer(NamedTuple):
    """The numbers of a layer; matrices with their bias, None for none. Called as the layer is, with the same result.

    `heads` are how many heads queries, keys and values have.
    """

    heads: tuple[int, int, int]
    head_dim: int
    scale: float
    cap: float
    eps: float
    residual_scale: float
    attention_norm: Tensor
    qkv: Matrix
    out: Matrix
    mlp_norm: Tensor
    gate_up: Matrix
    down: Matrix

    def __call__(self, x: Tensor, seq: int, angles: Angles, mask: Tensor | None, slot: Slot) -> Tensor:
        """Map the stream (batch, d_model) of one token a row to the same shape, without gradients."""
        batch, eps = len(x), self.eps
        times = functional.linear if batch == 1 else linear
        qkv = times(frozen_rms_norm(x, self.attention_norm, eps), *self.qkv).view(batch, -1, 1, self.head_dim)
        query, key, value = qkv.split_with_sizes(self.heads, dim=1)
        if angles is not None:
            # Queries and keys stand side by side, and are turned at once.
            n, n_kv, _ = self.heads
            query, key = rotate(qkv.narrow(1, 0, n + n_kv), *angles).split_with_sizes((n, n_kv), dim=1)
        keys, values = slot.extend(key, value)
        mixed = attend(query, keys, values, mask, self.scale, self.cap).view(batch, -1)
        x = torch.add(x, times(mixed, *self.out), alpha=self.residual_scale)
        gate, up = times(frozen_rms_norm(x, self.mlp_norm, eps), *self.gate_up).chunk(2, dim=-1)
        return torch.add(x, times(gated_silu(gate, up), *self.down), alpha=self.residual_scale)


def quick_layers(decoder: Decoder) -> list[Callable[..., Tensor]]:
    """Return the layers as they are now, with this adapter or with none; those of the form, in fewer calls."""
    spec = decoder.spec
    common = spec.norm != "layer" and spec.norm_places == "before" and not spec.parallel and not spec.head_norm
    layers = cast("list[Layer]", list(decoder.layers))
    if not common or spec.activation != "silu" or decoder.dtype == torch.bfloat16:
        return list(layers)
    return cast("list[Callable[..., Tensor]]", [_quick(spec, layer) or layer for layer in layers])


def _quick(spec: ModelSpec, layer: Layer) -> QuickLayer | None:
    attention, mlp = layer.attention, layer.mlp
    inputs, gates = (attention.query, attention.key, attention.value), (mlp.gate, mlp.up)
    qkv, gate_up = _side_by_side(attention.joined, inputs), _side_by_side(mlp.joined, gates)
    if not qkv or not gate_up or not isinstance(attention.out, Linear) or not isinstance(mlp.down, Linear):
        return None
    return QuickLayer(
        (spec.n_heads, spec.n_kv_heads, spec.n_kv_heads),
        spec.head_dim,
        attention.scale,
        attention.cap,
        spec.norm_eps,
        spec.residual_scale,
        _norm_weight(layer.attention_norm),
        qkv,
        (attention.out.weight, attention.out.bias),
        _norm_weight(layer.mlp_norm),
        gate_up,
        (mlp.down.weight, mlp.down.bias),
    )


def _side_by_side(joined: Tensor | None, maps: Sequence[nn.Module | None]) -> Matrix | None:
    """Return the matrix and bias of plain maps whose weights stand side by side, None where they do not."""
    plain = [one for one in maps if isinstance(one, Linear)]
    if len(plain) < len(maps) or joined is None or not holds(joined, plain):
        return None
    biases: list[Tensor] = [one.bias for one in plain if one.bias is not None]
    return joined, torch.cat(biases) if biases else None


def _norm_weight(norm: nn.Module) -> Tensor:
    assert isinstance(norm, Norm)
    return norm.weight + 1 if norm.kind == "rms offset" else norm.weight
