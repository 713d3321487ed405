"""What a decoder is made of: everything in which the families differ, as data."""

from __future__ import annotations

from dataclasses import dataclass

from .rotary import Rope

NORMS = ("rms", "rms offset", "layer")
ACTIVATIONS = ("silu", "gelu", "gelu tanh")


@dataclass(frozen=True)
class ModelSpec:
    """A decoder. Counts are of tokens, numbers, layers and heads.

    `norm` is the root-mean-square norm, the same with 1 added to its weight, or the layer norm with a bias.
    `norm_places` says where the norms of a layer stand: before attention and MLP, after them, or both; `parallel`
    whether both read the same stream: "" for one after the other, "two norms" or "one norm".

    `rope` turns queries and keys, None for learned positions; `local_rope` does so in layers with a window, where it
    is given; `unturned` names layers without. `windows` holds for each layer how many keys back a query may look, 0
    for all. `head_norm` is a norm of queries and keys by "head" or over the "whole" width, "" for none.
    `attention_scale` multiplies the products of queries and keys, `attention_cap` and `logit_cap` bound them and the
    logits by cap * tanh(x / cap), 0 for no bound.

    A gated MLP is down(activation(gate(x)) * up(x)), a plain one down(activation(up(x))). The scales multiply
    embeddings, what attention and MLP add to the stream, and logits.
    """

    vocab_size: int
    d_model: int
    n_layers: int
    n_heads: int
    n_kv_heads: int
    head_dim: int
    d_ff: int
    norm_eps: float
    rope: Rope | None
    max_positions: int
    tied_head: bool
    family: str = "llama"
    norm: str = "rms"
    norm_places: str = "before"
    parallel: str = ""
    local_rope: Rope | None = None
    unturned: tuple[int, ...] = ()
    windows: tuple[int, ...] = ()
    head_norm: str = ""
    attention_scale: float = 0.0
    attention_cap: float = 0.0
    logit_cap: float = 0.0
    qkv_bias: bool = False
    out_bias: bool = False
    mlp_bias: bool = False
    gated: bool = True
    activation: str = "silu"
    embedding_scale: float = 1.0
    residual_scale: float = 1.0
    logit_scale: float = 1.0

    def window(self, layer: int) -> int:
        """Return how many keys back a query of this layer may look, itself counted; 0 for all."""
        return self.windows[layer] if self.windows else 0

    def rope_of(self, layer: int) -> Rope | None:
        """Return how queries and keys of this layer are turned, None for not at all."""
        if layer in self.unturned:
            return None
        return self.local_rope if self.local_rope and self.window(layer) else self.rope
