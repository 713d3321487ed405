"""The decoder: embedding, layers of attention and MLP, final norm, head, all as its spec describes them.

RMS norm: Zhang and Sennrich 2019, eq. 4. Layer norm: Ba et al. 2016, eq. 4. Grouped queries: Ainslie et al. 2023,
section 2.2. Gated MLP: Shazeer 2020, eq. 5 and 6. Norms of queries and keys: Henry et al. 2020, section 3. Windows:
Beltagy et al. 2020, section 3.1. Parallel attention and MLP: Wang and Komatsuzaki 2021.

Inside a layer `forward` is called as a plain method: through the module, each call would cost as much as a small
product, a tenth of the time of a step with one token. Layers themselves are called as modules.
"""

from __future__ import annotations

from collections.abc import Callable, Sequence
from typing import cast

import torch
from torch import Tensor, nn
from torch.nn import functional

from .attention import attend, attend_pieces, window_mask
from .cache import Cache, Slot
from .device import CPU
from .held import Held
from .linear import Linear, join, linear, together
from .norms import frozen_rms_norm
from .piece import Piece, piece_positions
from .pieces import FEW_KEYS, Pieces
from .recomputing import recomputed
from .rotary import Rope, rotary_angles, rotate
from .spec import ModelSpec

Angles = tuple[Tensor, Tensor] | None
Mask = Tensor | Pieces | None


class Embedding(nn.Embedding):
    """An embedding without a start of its own."""

    def reset_parameters(self) -> None:
        """Leave the table as it is."""

    def logits(self, stream: Tensor) -> Tensor:
        """Map the stream (..., d_model) to logits (..., vocab_size) by the same table."""
        return linear(stream, self.weight)

    @property
    def matrix(self) -> Tensor:
        """The table, (vocab_size, d_model)."""
        return self.weight


class Norm(nn.Module):
    """The norm of a spec over the last axis."""

    def __init__(self, spec: ModelSpec, size: int) -> None:
        super().__init__()
        self.weight = nn.Parameter(torch.ones(size))
        self.bias = nn.Parameter(torch.zeros(size)) if spec.norm == "layer" else None
        self.kind, self.eps = spec.norm, spec.norm_eps

    def forward(self, x: Tensor) -> Tensor:
        """Map (..., size) to the same shape."""
        if self.kind == "layer":
            return functional.layer_norm(x, (x.shape[-1],), self.weight, self.bias, self.eps)
        weight = self.weight + 1 if self.kind == "rms offset" else self.weight
        trained = torch.is_grad_enabled() and weight.requires_grad
        if trained or x.dtype == torch.bfloat16:
            return functional.rms_norm(x, weight.shape, weight, self.eps)
        return frozen_rms_norm(x, weight, self.eps)


class Attention(nn.Module):
    """Grouped-query attention, turned by the position of each token where the spec says so."""

    def __init__(self, spec: ModelSpec) -> None:
        super().__init__()
        self.n_heads, self.n_kv_heads, self.head_dim = spec.n_heads, spec.n_kv_heads, spec.head_dim
        self.scale, self.cap = spec.attention_scale or spec.head_dim**-0.5, spec.attention_cap
        self.head_norm = spec.head_norm
        self.joined: Tensor | None = None
        width, kv_width = spec.n_heads * spec.head_dim, spec.n_kv_heads * spec.head_dim
        self.query = Linear(spec.d_model, width, bias=spec.qkv_bias)
        self.key = Linear(spec.d_model, kv_width, bias=spec.qkv_bias)
        self.value = Linear(spec.d_model, kv_width, bias=spec.qkv_bias)
        self.out = Linear(width, spec.d_model, bias=spec.out_bias)
        if spec.head_norm:
            whole = spec.head_norm == "whole"
            self.query_norm = Norm(spec, width if whole else spec.head_dim)
            self.key_norm = Norm(spec, kv_width if whole else spec.head_dim)

    def forward(
        self, x: Tensor, seq: int, angles: Angles, mask: Mask, slot: Slot | None, wanted: Tensor | None = None
    ) -> Tensor:
        """Map (batch * seq, d_model) to the same shape, or to its wanted rows alone.

        mask as in `Decoder.forward`, or the pieces of one row.
        """
        query, key, value = together(x, (self.query, self.key, self.value), self.joined)
        if self.head_norm == "whole":
            query, key = self.query_norm.forward(query), self.key_norm.forward(key)
        query = query.view(-1, seq, self.n_heads, self.head_dim).transpose(1, 2)
        key = key.view(-1, seq, self.n_kv_heads, self.head_dim).transpose(1, 2)
        value = value.view(-1, seq, self.n_kv_heads, self.head_dim).transpose(1, 2)
        if self.head_norm == "head":
            query, key = self.query_norm.forward(query), self.key_norm.forward(key)
        if angles is not None:
            query, key = rotate(query, *angles), rotate(key, *angles)
        if slot is not None:
            key, value = slot.extend(key, value)
        if isinstance(mask, Pieces):
            mixed = attend_pieces(query, key, value, mask, self.scale, self.cap)
        else:
            mixed = attend(query, key, value, mask, self.scale, self.cap)
        rows = mixed.transpose(1, 2).reshape(len(x), -1)
        out: Tensor = self.out.forward(of_wanted(rows, wanted))
        return out

    def join(self, dtype: torch.dtype, device: torch.device) -> None:
        """Let one product serve query, key and value, where their weights are plain."""
        self.joined = join((self.query, self.key, self.value), dtype, device)


class Mlp(nn.Module):
    """down(activation(gate(x)) * up(x)), or without a gate down(activation(up(x)))."""

    def __init__(self, spec: ModelSpec) -> None:
        super().__init__()
        self.gate = Linear(spec.d_model, spec.d_ff, bias=spec.mlp_bias) if spec.gated else None
        self.up = Linear(spec.d_model, spec.d_ff, bias=spec.mlp_bias)
        self.down = Linear(spec.d_ff, spec.d_model, bias=spec.mlp_bias)
        self.activation = spec.activation
        self.joined: Tensor | None = None

    def forward(self, x: Tensor) -> Tensor:
        """Map (..., d_model) to the same shape."""
        parts = [self.up.forward(x)] if self.gate is None else together(x, (self.gate, self.up), self.joined)
        return self.down.of_activated(parts, self.activation)

    def join(self, dtype: torch.dtype, device: torch.device) -> None:
        """Let one product serve gate and up, where their weights are plain."""
        self.joined = join((self.gate, self.up), dtype, device) if self.gate is not None else None


class Layer(nn.Module):
    """One block: attention and MLP, each between its norms, added to the stream one after the other or together."""

    def __init__(self, spec: ModelSpec) -> None:
        super().__init__()
        before, after = spec.norm_places != "after", spec.norm_places != "before"
        self.parallel, self.scale = spec.parallel, spec.residual_scale
        self.attention_norm = Norm(spec, spec.d_model) if before else nn.Identity()
        self.attention = Attention(spec)
        self.attention_after_norm = Norm(spec, spec.d_model) if after else None
        self.mlp_norm = Norm(spec, spec.d_model) if before and spec.parallel != "one norm" else nn.Identity()
        self.mlp = Mlp(spec)
        self.mlp_after_norm = Norm(spec, spec.d_model) if after else None

    def forward(
        self, x: Tensor, seq: int, angles: Angles, mask: Mask, slot: Slot | None, wanted: Tensor | None = None
    ) -> Tensor:
        """Map the residual stream (batch * seq, d_model) to the same shape, or to its wanted rows alone."""
        normed = self.attention_norm.forward(x)
        mixed = self.attention.forward(normed, seq, angles, mask, slot, wanted)
        x = of_wanted(x, wanted)
        if self.parallel:
            normed = of_wanted(normed, wanted)
            both: Tensor = (
                x + mixed + self.mlp.forward(normed if self.parallel == "one norm" else self.mlp_norm.forward(x))
            )
            return both
        x = self._added(x, mixed, self.attention_after_norm)
        return self._added(x, self.mlp.forward(self.mlp_norm.forward(x)), self.mlp_after_norm)

    def _added(self, x: Tensor, more: Tensor, norm: Norm | None) -> Tensor:
        more = more if norm is None else norm.forward(more)
        return x + more if self.scale == 1 else x + more * self.scale


def of_wanted(x: Tensor, wanted: Tensor | None) -> Tensor:
    """Return the wanted rows of x, all where none is named."""
    return x if wanted is None else x.index_select(0, wanted)


class Decoder(nn.Module):
    """A causal language model as `spec` describes it."""

    def __init__(self, spec: ModelSpec) -> None:
        super().__init__()
        self.spec = spec
        # With gradients, keep only what goes into each layer and compute the rest again on the way back.
        self.recompute = False
        self.embedding = Embedding(spec.vocab_size, spec.d_model)
        self.positions = None if spec.rope else Embedding(spec.max_positions, spec.d_model)
        self.layers = nn.ModuleList(Layer(spec) for _ in range(spec.n_layers))
        self.norm = Norm(spec, spec.d_model)
        self.head = None if spec.tied_head else Linear(spec.d_model, spec.vocab_size, bias=False)

    @property
    def n_parameters(self) -> int:
        """Count of all weights, a tied head counted once, held ones counted as what they stand for."""
        held = sum(module.n_rows * module.width for module in self.modules() if isinstance(module, Held))
        return held + sum(weight.numel() for weight in self.parameters())

    @property
    def dtype(self) -> torch.dtype:
        """The dtype that is computed in."""
        return self.norm.weight.dtype

    @property
    def device(self) -> torch.device:
        """Where it is computed."""
        return self.norm.weight.device

    def forward(
        self,
        ids: Tensor,
        *,
        positions: Tensor | None = None,
        mask: Tensor | None = None,
        cache: Cache | None = None,
        pieces: Sequence[Piece] = (),
        wanted: Tensor | None = None,
        layers: Sequence[Callable[..., Tensor]] = (),
    ) -> Tensor:
        """Return the normed stream (batch, seq, d_model) for token ids, int64 (batch, seq).

        positions: int64 (batch, seq), counting from 0 by default. mask: bool (batch, 1, seq, keys), True where a
        query may look; plain causal when None, which needs one query, or an empty cache or none. pieces: what stands
        one after the other in one row; a piece sees nothing but itself and what it says stands before it, and
        positions go on from there. wanted: int64 (n,), which tokens (flat) to return the stream of, (n, d_model); the
        last layer does for these alone what it can.
        """
        if pieces:
            positions = piece_positions(pieces, ids.device)[None]
        elif positions is None:
            positions = torch.arange(ids.shape[1], device=ids.device)[None]
        x = self.embedding(ids)
        if self.spec.embedding_scale != 1:
            # The scale is rounded to the dtype of the weights, as the families that have one define it.
            x = x * torch.tensor(self.spec.embedding_scale, dtype=x.dtype, device=x.device)
        if self.positions is not None:
            x = x + self.positions(positions)
        x = x.flatten(0, 1)
        n_keys = ids.shape[1] + (cache.length if cache else 0)
        heads = self.spec.n_heads, self.spec.n_kv_heads
        masks: dict[int, Mask] = {
            size: Pieces(tuple(pieces), heads, size, 0 if self.recompute else FEW_KEYS, x.dtype, x.device)
            if pieces
            else window_mask(mask, size, ids.shape[1], n_keys, ids.device)
            for size in {*self.spec.windows, 0}
        }
        angles: dict[Rope | None, Angles] = {None: None}
        slots = cache.slots(ids.shape[1]) if cache else [None] * self.spec.n_layers
        own = cast("Sequence[Callable[..., Tensor]]", self.layers)
        for index, layer in enumerate(layers or own):
            rope = self.spec.rope_of(index)
            if rope is not None and rope not in angles:
                cos, sin = rotary_angles(positions, rope)
                angles[rope] = (cos.to(x.dtype), sin.to(x.dtype))
            given = [ids.shape[1], angles[rope], masks[self.spec.window(index)], slots[index]]
            if wanted is not None and index == self.spec.n_layers - 1:
                given.append(wanted)
            # A layer that is no module goes its way back itself.
            again = self.recompute and torch.is_grad_enabled() and isinstance(layer, nn.Module)
            x = recomputed(layer, x, *given) if again else layer(x, *given)
        out: Tensor = self.norm(x)
        return out.view(*ids.shape, -1) if wanted is None else out

    def head_parameters(self) -> list[nn.Parameter]:
        """Return the weights that logits are made with, where they are plain."""
        return list((self.head or self.embedding).parameters())

    def join(self, dtype: torch.dtype, device: torch.device = CPU) -> None:
        """Put weights that are multiplied by the same input side by side, for fewer and larger products."""
        for module in self.modules():
            if isinstance(module, Attention | Mlp):
                module.join(dtype, device)

    def logits(self, stream: Tensor) -> Tensor:
        """Map the normed stream (..., d_model) to logits (..., vocab_size), in float32 or wider.

        In bfloat16 the losses of a batch, added up, would be known to half a percent.
        """
        made: Tensor = self.embedding.logits(stream) if self.head is None else self.head(stream)
        logits = made.to(torch.promote_types(made.dtype, torch.float32))
        if self.spec.logit_scale != 1:
            logits = logits * self.spec.logit_scale
        cap = self.spec.logit_cap
        return cap * torch.tanh(logits / cap) if cap else logits
