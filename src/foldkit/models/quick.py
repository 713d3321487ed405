"""Layers of the commonest form in the fewest calls, for steps of one token a row.

Such a step is mostly reading weights, and what is not is calls: those of `Layer.forward` take a fifth of it. The form:
RMS norms before attention and MLP, plain weights side by side, low-rank pairs beside them or none, no norm of heads, a
gated SiLU.
"""

from __future__ import annotations

from collections.abc import Callable, Sequence
from typing import NamedTuple, cast

import torch
from torch import Tensor, nn
from torch.nn import functional

from .activating import activated
from .attention import attend
from .cache import Slot
from .decoder import Angles, Attention, Decoder, Layer, Norm
from .held import Parts, is_narrower
from .linear import holds, linear
from .norms import frozen_rms_norm
from .rotary import rotate
from .spec import ModelSpec


class QuickLayer(NamedTuple):
    """The numbers of a layer, maps of one input as one map. Called as the layer is, with the same result.

    `heads` are how many heads queries have, and keys. `head_norm` is of queries and keys, `after_norms` of what
    attention and MLP give, each None where there is none.
    """

    heads: tuple[int, int]
    head_dim: int
    scale: float
    cap: float
    activation: str
    eps: float
    residual_scale: float
    head_norm: Tensor | None
    after_norms: tuple[Tensor | None, Tensor | None]
    attention_norm: Tensor
    qkv: Parts
    out: Parts
    mlp_norm: Tensor
    gate_up: Parts
    down: Parts

    def __call__(self, x: Tensor, seq: int, angles: Angles, mask: Tensor | None, slot: Slot) -> Tensor:
        """Map the stream (batch, d_model) of one token a row to the same shape, without gradients."""
        batch = len(x)
        normed = frozen_rms_norm(x, self.attention_norm, self.eps)
        qkv = _times(normed, self.qkv).view(batch, -1, 1, self.head_dim)
        n, n_kv = self.heads
        # Queries and keys stand side by side, and are brought to their norm and turned at once.
        turned, value = qkv.split_with_sizes((n + n_kv, n_kv), dim=1)
        if self.head_norm is not None:
            turned = frozen_rms_norm(turned, self.head_norm[:, None], self.eps)
        if angles is not None:
            turned = rotate(turned, *angles)
        query, key = turned.split_with_sizes(self.heads, dim=1)
        keys, values = slot.extend(key, value)
        mixed = attend(query, keys, values, mask, self.scale, self.cap).view(batch, -1)
        x = self._added(x, _times(mixed, self.out), self.after_norms[0])
        parts = _times(frozen_rms_norm(x, self.mlp_norm, self.eps), self.gate_up).chunk(2, dim=-1)
        return self._added(x, _times(activated(parts, self.activation), self.down), self.after_norms[1])

    def _added(self, x: Tensor, more: Tensor, norm: Tensor | None) -> Tensor:
        more = more if norm is None else frozen_rms_norm(more, norm, self.eps)
        return torch.add(x, more, alpha=self.residual_scale)


def _times(x: Tensor, parts: Parts) -> Tensor:
    """Return what a map gives for x (batch, d_in), (batch, d_out)."""
    weight, bias, a, b, _ = parts
    assert isinstance(weight, Tensor)  # `_plain` saw to it
    alone = len(x) == 1 and not is_narrower(weight, x)
    y = functional.linear(x, weight, bias) if alone else linear(x, weight, bias)
    return y if a is None or b is None else torch.addmm(y, x @ a.T, b.T)


def quick_layers(decoder: Decoder) -> list[Callable[..., Tensor]]:
    """Return the layers as they are now, with this adapter or with none; those of the form, in fewer calls."""
    spec, layers = decoder.spec, cast("list[Layer]", list(decoder.layers))
    if not is_common(spec) or decoder.dtype == torch.bfloat16:
        return list(layers)
    return cast("list[Callable[..., Tensor]]", [_quick(spec, layer) or layer for layer in layers])


def is_common(spec: ModelSpec) -> bool:
    """Say whether layers of a spec have the commonest form, as far as the spec tells."""
    common = spec.norm != "layer" and spec.norm_places != "after" and spec.head_norm != "whole"
    return common and spec.gated and not spec.parallel


def _quick(spec: ModelSpec, layer: Layer) -> QuickLayer | None:
    attention, mlp = layer.attention, layer.mlp
    qkv = _side_by_side(attention.joined, (attention.query, attention.key, attention.value))
    gate_up = _side_by_side(mlp.joined, (mlp.gate, mlp.up))
    out, down = _plain(attention.out), _plain(mlp.down)
    if qkv is None or gate_up is None or out is None or down is None:
        return None
    return QuickLayer(
        (spec.n_heads, spec.n_kv_heads),
        spec.head_dim,
        attention.scale,
        attention.cap,
        spec.activation,
        spec.norm_eps,
        spec.residual_scale,
        head_norm(attention),
        after_norms(layer),
        norm_weight(layer.attention_norm),
        qkv,
        out,
        norm_weight(layer.mlp_norm),
        gate_up,
        down,
    )


def parts_of(module: nn.Module | None) -> Parts | None:
    """Return what a map is, None for one that is more than products and a bias."""
    parts = getattr(module, "parts", None)
    found: Parts | None = parts() if parts else None
    return found


def _plain(module: nn.Module | None) -> Parts | None:
    """Return what a map is whose matrix stands there in floats, None for another, and while it drops anything."""
    parts = parts_of(module)
    return parts if parts and isinstance(parts.matrix, Tensor) and not parts.dropout else None


def _side_by_side(joined: Tensor | None, maps: Sequence[nn.Module | None]) -> Parts | None:
    """Return maps whose weights stand side by side as one map, None where they do not."""
    every = [parts for parts in map(_plain, maps) if parts]
    if joined is None or len(every) < len(maps) or not holds(joined, every[0].matrix):
        return None
    biases = [one.bias for one in every if one.bias is not None]
    # A map without a pair has one of rank 0 here.
    firsts = [joined.new_empty(0, joined.shape[1]) if one.factor_a is None else one.factor_a for one in every]
    seconds = [joined.new_empty(one.n_outputs, 0) if one.factor_b is None else one.factor_b for one in every]
    bias, a = torch.cat(biases) if biases else None, torch.cat(firsts)
    if not len(a):
        return Parts(joined, bias)
    return Parts(joined, bias, a, torch.block_diag(*seconds))  # type: ignore[no-untyped-call]


def head_norm(attention: Attention) -> Tensor | None:
    """Return what the norm of each head of queries and keys multiplies by, (heads, head_dim)."""
    if not attention.head_norm:
        return None
    norms = (attention.query_norm, attention.n_heads), (attention.key_norm, attention.n_kv_heads)
    return torch.cat([norm_weight(norm).expand(n, -1) for norm, n in norms])


def after_norms(layer: Layer) -> tuple[Tensor | None, Tensor | None]:
    """Return what the norms of what attention and MLP give multiply by."""
    norms = layer.attention_after_norm, layer.mlp_after_norm
    first, second = (None if norm is None else norm_weight(norm) for norm in norms)
    return first, second


def norm_weight(norm: nn.Module) -> Tensor:
    """Return what an RMS norm multiplies by."""
    assert isinstance(norm, Norm)
    return norm.weight + 1 if norm.kind == "rms offset" else norm.weight
