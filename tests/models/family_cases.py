"""A small config of each family, with what is special about it."""

from __future__ import annotations

from typing import Any

SIZES = {
    "vocab_size": 50,
    "hidden_size": 32,
    "num_hidden_layers": 4,
    "num_attention_heads": 4,
    "num_key_value_heads": 2,
    "intermediate_size": 48,
    "max_position_embeddings": 64,
    "rms_norm_eps": 1e-5,
    "tie_word_embeddings": False,
    "rope_theta": 5000.0,
}
GRANITE = {
    **SIZES,
    "embedding_multiplier": 3.0,
    "attention_multiplier": 0.2,
    "residual_multiplier": 0.4,
    "logits_scaling": 6.0,
}
DENSE = {
    "layer_types": ["attention"] * 4,
    "num_local_experts": 0,
    "num_experts_per_tok": 2,
    "shared_intermediate_size": 40,
    "mamba_d_head": 64,
    "router_aux_loss_coef": 0.1,
}
GEMMA = {**SIZES, "head_dim": 12, "tie_word_embeddings": True, "hidden_activation": "gelu_pytorch_tanh"}
GPT2 = {"vocab_size": 50, "n_embd": 32, "n_layer": 3, "n_head": 4, "n_positions": 64, "layer_norm_epsilon": 1e-5}
NEO = {"num_layers": 4, "num_heads": 4, "window_size": 4, "attention_layers": ["global", "local"] * 2}
LLAMA3 = {"rope_type": "llama3", "factor": 8.0, "low_freq_factor": 1.0, "high_freq_factor": 4.0}
LAYERED = {"layer_norm_eps": 1e-5, "rms_norm_eps": None}
CONFIGS: dict[str, dict[str, Any]] = {
    "llama": SIZES,
    "llama, biases": {**SIZES, "attention_bias": True, "mlp_bias": True, "head_dim": 6, "tie_word_embeddings": True},
    "llama, linear": {**SIZES, "rope_scaling": {"rope_type": "linear", "factor": 2.5}},
    "llama, llama3": {**SIZES, "rope_scaling": {**LLAMA3, "original_max_position_embeddings": 128}},
    "llama, yarn": {
        **SIZES,
        "rope_scaling": {"rope_type": "yarn", "factor": 4.0, "original_max_position_embeddings": 4096},
    },
    "mistral": {**SIZES, "sliding_window": 4},
    "qwen2": {**SIZES, "use_sliding_window": True, "sliding_window": 4, "max_window_layers": 2},
    "qwen3": {**SIZES, "head_dim": 6},
    "gemma": GEMMA,
    "gemma2": {
        **GEMMA,
        "query_pre_attn_scalar": 24,
        "sliding_window": 4,
        "attn_logit_softcapping": 5.0,
        "final_logit_softcapping": 3.0,
    },
    "gemma3_text": {
        **GEMMA,
        "query_pre_attn_scalar": 24,
        "sliding_window": 4,
        "sliding_window_pattern": 3,
        "rope_local_base_freq": 300.0,
        "rope_scaling": {"rope_type": "linear", "factor": 8.0},
    },
    "phi3": {
        **SIZES,
        "sliding_window": 6,
        "partial_rotary_factor": 0.5,
        "original_max_position_embeddings": 32,
        "rope_scaling": {"rope_type": "longrope", "short_factor": [1.0, 1.5], "long_factor": [2.0, 4.0]},
    },
    "granite": GRANITE,
    "granitemoehybrid": {**GRANITE, **DENSE, "position_embedding_type": "rope"},
    "granitemoehybrid, unturned": {**GRANITE, **DENSE},
    "olmo2": SIZES,
    "olmo3": {
        **SIZES,
        "sliding_window": 4,
        "rope_scaling": {"rope_type": "yarn", "factor": 4.0, "original_max_position_embeddings": 4096},
    },
    "stablelm": {
        **SIZES,
        **LAYERED,
        "partial_rotary_factor": 0.5,
        "use_qkv_bias": True,
        "use_parallel_residual": False,
    },
    "stablelm, parallel": {**SIZES, **LAYERED, "partial_rotary_factor": 0.25, "use_parallel_residual": True},
    "gpt2": GPT2,
    "gpt_neo": {**GPT2, **NEO, "hidden_size": 32, "max_position_embeddings": 64, "n_embd": None, "n_layer": None}
    | {"n_head": None, "n_positions": None, "attention_types": [[["global", "local"], 2]]},
    "gpt_neox": {**SIZES, **LAYERED, "rotary_pct": 0.5, "rotary_emb_base": 700.0, "use_parallel_residual": True}
    | {"num_key_value_heads": None, "rope_theta": None},
    "gpt_neox, one after the other": {**SIZES, **LAYERED, "rotary_pct": 0.25, "rotary_emb_base": 10000.0}
    | {"use_parallel_residual": False, "num_key_value_heads": None, "rope_theta": None},
    "smollm3": {**SIZES, "no_rope_layers": [1, 0, 1, 1], "tie_word_embeddings": True},
}


def config_of(case: str) -> dict[str, Any]:
    given = {key: value for key, value in CONFIGS[case].items() if value is not None}
    return {"model_type": case.split(",", maxsplit=1)[0], "torch_dtype": "float64", **given}
