"""The families that a GGUF file can hold: name, metadata and tensor names of each, as the format has them."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field

# What the metadata calls the keys of a config, behind the architecture's name.
COMMON = {
    "hidden_size": "embedding_length",
    "num_hidden_layers": "block_count",
    "num_attention_heads": "attention.head_count",
    "num_key_value_heads": "attention.head_count_kv",
    "head_dim": "attention.key_length",
    "intermediate_size": "feed_forward_length",
    "rms_norm_eps": "attention.layer_norm_rms_epsilon",
    "rope_theta": "rope.freq_base",
    "max_position_embeddings": "context_length",
}
_PATTERN = "attention.sliding_window_pattern"
_LAYER_NORM = {"layer_norm_eps": "attention.layer_norm_epsilon", "rms_norm_eps": None}
_WINDOWED = {"sliding_window": "attention.sliding_window", "sliding_window_pattern": _PATTERN}
_LOCAL = {"rope_local_base_freq": "rope.freq_base_swa"}
_CAPPED = {"attn_logit_softcapping": "attn_logit_softcapping", "final_logit_softcapping": "final_logit_softcapping"}

_SPLIT = {"attention.query": "attn_q", "attention.key": "attn_k", "attention.value": "attn_v"}
_FUSED = dict.fromkeys(_SPLIT, "attn_qkv")
_GATED = {"mlp.gate": "ffn_gate", "mlp.up": "ffn_up", "mlp.down": "ffn_down"}
_BEFORE = {"attention_norm": "attn_norm", "mlp_norm": "ffn_norm"}
_AFTER = {"attention_after_norm": "post_attention_norm", "mlp_after_norm": "post_ffw_norm"}
_HEAD_NORMS = {"attention.query_norm": "attn_q_norm", "attention.key_norm": "attn_k_norm"}
_OUT = {"attention.out": "attn_output"}
_GPT = {**_BEFORE, **_FUSED, **_OUT, "mlp.up": "ffn_up", "mlp.down": "ffn_down"}
_PLAIN = {**_BEFORE, **_SPLIT, **_OUT, **_GATED}


@dataclass(frozen=True)
class GgufFamily:
    """How a file of one architecture is read: the `model_type` it stands for, and what it does in its own way.

    `keys` names metadata beside the common ones, None for a common one that is not there. `permuted` says that query
    and key rows stand in pairs, `offset` that 1 was added to the norms.
    """

    model_type: str
    layer: Mapping[str, str] = field(default_factory=lambda: _PLAIN)
    keys: Mapping[str, str | None] = field(default_factory=dict)
    permuted: bool = False
    offset: bool = False

    @property
    def modules(self) -> dict[str, str]:
        """Our modules by the format's names."""
        ends = {"embedding": "token_embd", "positions": "position_embd", "norm": "output_norm", "head": "output"}
        return {**ends, **{f"layers.{{n}}.{ours}": f"blk.{{n}}.{theirs}" for ours, theirs in self.layer.items()}}


_GRANITE = {
    "embedding_multiplier": "embedding_scale",
    "residual_multiplier": "residual_scale",
    "attention_multiplier": "attention.scale",
    "logits_scaling": "logit_scale",
}
_GPT2 = {
    "hidden_size": None,
    "intermediate_size": None,
    "num_hidden_layers": None,
    "num_attention_heads": None,
    "num_key_value_heads": None,
    "head_dim": None,
    "rms_norm_eps": None,
    "rope_theta": None,
    "max_position_embeddings": None,
    "n_embd": "embedding_length",
    "n_layer": "block_count",
    "n_head": "attention.head_count",
    "n_inner": "feed_forward_length",
    "n_positions": "context_length",
    "layer_norm_epsilon": "attention.layer_norm_epsilon",
}
_NEOX = {**_LAYER_NORM, "num_key_value_heads": None, "use_parallel_residual": "use_parallel_residual"}

GGUF_FAMILIES: dict[str, GgufFamily] = {
    "llama": GgufFamily("llama", permuted=True),
    "qwen2": GgufFamily("qwen2"),
    "qwen2vl": GgufFamily("qwen2"),
    "qwen3": GgufFamily("qwen3", {**_PLAIN, **_HEAD_NORMS}),
    "qwen3vl": GgufFamily("qwen3", {**_PLAIN, **_HEAD_NORMS}),
    "gemma": GgufFamily("gemma", offset=True),
    "gemma2": GgufFamily("gemma2", {**_PLAIN, **_AFTER}, {**_WINDOWED, **_CAPPED}, offset=True),
    "gemma3": GgufFamily("gemma3_text", {**_PLAIN, **_AFTER, **_HEAD_NORMS}, {**_WINDOWED, **_LOCAL}, offset=True),
    "phi3": GgufFamily("phi3", {**_BEFORE, **_FUSED, **_OUT, **_GATED, "mlp.gate": "ffn_up"}, _WINDOWED),
    "granite": GgufFamily("granite", keys=_GRANITE, permuted=True),
    "olmo2": GgufFamily("olmo2", {**_SPLIT, **_OUT, **_GATED, **_AFTER, **_HEAD_NORMS}, _WINDOWED),
    "stablelm": GgufFamily("stablelm", keys={**_LAYER_NORM, "use_parallel_residual": "use_parallel_residual"}),
    "gpt2": GgufFamily("gpt2", _GPT, _GPT2),
    "gptneox": GgufFamily("gpt_neox", _GPT, _NEOX),
    "smollm3": GgufFamily("smollm3", permuted=True),
}
