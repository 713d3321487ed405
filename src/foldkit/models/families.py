"""The table of families: for each `model_type` how its config says the spec, and how its files name the weights.

Source of each: the family's published config and model definition. A new family is one entry here and one test.
"""

from __future__ import annotations

import math
from collections.abc import Callable, Mapping
from dataclasses import dataclass
from typing import Any

from foldkit.formats.errors import InputError, near_name

from .config import Config
from .rotary import Rope
from .spec import ModelSpec

_ACTIVATIONS = {
    "silu": "silu",
    "gelu": "gelu",
    "gelu_new": "gelu tanh",
    "gelu_pytorch_tanh": "gelu tanh",
    "gelu_fast": "gelu tanh",
}


@dataclass(frozen=True)
class Family:
    """How one family is read.

    `spec` gives the spec's fields from a config. `modules` names each of our modules by the files' own name, `{n}` for
    the layer; several of ours under one name are fused there, in order. `by_head` says that fused rows alternate by
    head, `transposed` that maps stand the other way round.
    """

    spec: Callable[[Config], dict[str, Any]]
    modules: Mapping[str, str]
    by_head: bool = False
    transposed: bool = False


def _layers(prefix: str, names: Mapping[str, str]) -> dict[str, str]:
    return {f"layers.{{n}}.{ours}": f"{prefix}.{{n}}.{theirs}" for ours, theirs in names.items()}


_ENDS = {"embedding": "model.embed_tokens", "norm": "model.norm", "head": "lm_head"}
_ATTENTION = {
    "attention.query": "self_attn.q_proj",
    "attention.key": "self_attn.k_proj",
    "attention.value": "self_attn.v_proj",
    "attention.out": "self_attn.o_proj",
}
_HEAD_NORMS = {"attention.query_norm": "self_attn.q_norm", "attention.key_norm": "self_attn.k_norm"}
_GATED = {"mlp.gate": "mlp.gate_proj", "mlp.up": "mlp.up_proj", "mlp.down": "mlp.down_proj"}
_BEFORE = {"attention_norm": "input_layernorm", "mlp_norm": "post_attention_layernorm"}
_PLAIN_LAYER = {**_BEFORE, **_ATTENTION, **_GATED}
_AFTER = {"attention_after_norm": "post_attention_layernorm", "mlp_after_norm": "post_feedforward_layernorm"}
_BOTH = {"attention_norm": "input_layernorm", "mlp_norm": "pre_feedforward_layernorm", **_AFTER}

LLAMA_MODULES = {**_ENDS, **_layers("model.layers", _PLAIN_LAYER)}


def _sizes(c: Config, tied: bool = False) -> dict[str, Any]:
    """Return the fields that nearly all families name alike."""
    d_model, n_heads = c.whole("hidden_size"), c.whole("num_attention_heads")
    return {
        "vocab_size": c.whole("vocab_size"),
        "d_model": d_model,
        "n_layers": c.whole("num_hidden_layers"),
        "n_heads": n_heads,
        "n_kv_heads": c.whole("num_key_value_heads", n_heads),
        "head_dim": c.whole("head_dim", max(1, d_model // n_heads)),
        "d_ff": c.whole("intermediate_size"),
        "max_positions": c.whole("max_position_embeddings", 2048),
        "tied_head": c.flag("tie_word_embeddings", tied),
    }


def _llama(c: Config) -> dict[str, Any]:
    found = _sizes(c)
    bias = c.flag("attention_bias")
    return found | {
        "norm_eps": c.positive("rms_norm_eps", 1e-6),
        "rope": c.rope(found["head_dim"], c.positive("partial_rotary_factor", 1.0)),
        "qkv_bias": bias,
        "out_bias": bias,
        "mlp_bias": c.flag("mlp_bias"),
        "activation": c.one_of("hidden_act", _ACTIVATIONS, "silu"),
    }


def _mistral(c: Config) -> dict[str, Any]:
    found = _llama(c)
    window = c.whole_or_none("sliding_window")
    return found | {"windows": (window,) * found["n_layers"] if window else ()}


def _late_windows(c: Config, n_layers: int) -> tuple[int, ...]:
    """Return the windows of a config that switches them on from a layer on, or names the kind of every layer."""
    window, kinds = c.whole_or_none("sliding_window"), c.per_layer("layer_types", n_layers)
    first = c.whole("max_window_layers", n_layers)
    if kinds is None:
        kinds = ["sliding_attention" if layer >= first else "full_attention" for layer in range(n_layers)]
    if not c.flag("use_sliding_window") or not window:
        return ()
    return _windows(kinds, window, c)


def _windows(kinds: list[Any], window: int, c: Config) -> tuple[int, ...]:
    known = {"sliding_attention": window, "full_attention": 0}
    for kind in kinds:
        if not isinstance(kind, str) or kind not in known:
            raise InputError(c.where, "layer_types", " or ".join(known), kind, "choose another base")
    return tuple(known[kind] for kind in kinds)


def _qwen2(c: Config) -> dict[str, Any]:
    found = _llama(c)
    return found | {"qkv_bias": True, "out_bias": False, "windows": _late_windows(c, found["n_layers"])}


def _qwen3(c: Config) -> dict[str, Any]:
    found = _llama(c)
    return found | {"head_norm": "head", "windows": _late_windows(c, found["n_layers"])}


def _gemma(c: Config, layers: str = "") -> dict[str, Any]:
    # The family's first files say "gelu" and mean its tanh form.
    c.get("hidden_act")
    found = _sizes(c, tied=True)
    bias = c.flag("attention_bias")
    return found | {
        "norm": "rms offset",
        "norm_eps": c.positive("rms_norm_eps", 1e-6),
        "rope": c.rope(found["head_dim"], layers=layers),
        "activation": c.one_of("hidden_activation", {"gelu_pytorch_tanh": "gelu tanh"}, "gelu_pytorch_tanh"),
        "embedding_scale": math.sqrt(found["d_model"]),
        "qkv_bias": bias,
        "out_bias": bias,
    }


def _gemma2(c: Config) -> dict[str, Any]:
    found = _gemma(c)
    n_layers, window = found["n_layers"], c.whole("sliding_window", 4096)
    c.fixed("sliding_window_size", window)
    kinds = c.per_layer("layer_types", n_layers) or [
        "full_attention" if layer % 2 else "sliding_attention" for layer in range(n_layers)
    ]
    return found | {
        "norm_places": "both",
        "attention_scale": c.positive("query_pre_attn_scalar", 256.0) ** -0.5,
        "attention_cap": c.cap("attn_logit_softcapping"),
        "logit_cap": c.cap("final_logit_softcapping"),
        "windows": _windows(kinds, window, c),
    }


def _gemma3(c: Config) -> dict[str, Any]:
    n_layers, every = c.whole("num_hidden_layers"), c.whole("sliding_window_pattern", 6)
    kinds = c.per_layer("layer_types", n_layers) or [
        "sliding_attention" if (layer + 1) % every else "full_attention" for layer in range(n_layers)
    ]
    found = _gemma(c, "full_attention")
    head_dim = found["head_dim"]
    # The newer form has a table for each kind of layers; in the older one local layers are never stretched.
    older = Config({"rope_theta": c.positive("rope_local_base_freq", 10000.0)}, c.where)
    local = c if c.has_rope_of("sliding_attention") else older
    return found | {
        "norm_places": "both",
        "head_norm": "head",
        "rope": c.rope(head_dim, base=1e6, layers="full_attention"),
        "local_rope": local.rope(head_dim, layers="sliding_attention"),
        "attention_scale": c.positive("query_pre_attn_scalar", 256.0) ** -0.5,
        "attention_cap": c.cap("attn_logit_softcapping"),
        "logit_cap": c.cap("final_logit_softcapping"),
        "windows": _windows(kinds, c.whole("sliding_window", 4096), c),
    }


def _phi3(c: Config) -> dict[str, Any]:
    found = _mistral(c)
    c.fixed("full_attn_mod", 1)
    c.fixed("interpolate_factor", 1)
    if found["rope"].scaling == "longrope":
        # Past these positions the family turns by other factors.
        found["max_positions"] = min(found["max_positions"], found["rope"].original)
    return found


def _granite(c: Config) -> dict[str, Any]:
    return _llama(c) | {
        "embedding_scale": c.positive("embedding_multiplier", 1.0),
        "attention_scale": c.positive("attention_multiplier", 1.0),
        "residual_scale": c.positive("residual_multiplier", 1.0),
        "logit_scale": 1 / c.positive("logits_scaling", 1.0),
    }


def _granite_hybrid(c: Config) -> dict[str, Any]:
    """Those of them that are attention alone, and have no experts."""
    found = _granite(c)
    for kind in c.per_layer("layer_types", found["n_layers"]) or ():
        if kind != "attention":
            raise InputError(c.where, "layer_types", "attention alone", kind, "choose another base")
    c.fixed("num_local_experts", 0)
    c.fixed("normalization_function", "rmsnorm")
    for key in c.values:
        if key.startswith(("mamba_", "time_step_", "router_")) or key in ("num_experts_per_tok", "init_method"):
            c.get(key)
    turned = c.one_of("position_embedding_type", {"rope": True, "nope": False}, "nope")
    unturned = () if turned else tuple(range(found["n_layers"]))
    return found | {"d_ff": c.whole("shared_intermediate_size"), "unturned": unturned}


def _olmo2(c: Config, window: int = 0) -> dict[str, Any]:
    found = _llama(c) | {"norm_places": "after", "head_norm": "whole"}
    window = c.whole_or_none("sliding_window") or window
    if not window:
        return found
    kinds = c.per_layer("layer_types", found["n_layers"]) or [
        "sliding_attention" if (n + 1) % 4 else "full_attention" for n in range(found["n_layers"])
    ]
    # Layers with a window are never stretched.
    local = Rope(found["rope"].base, found["rope"].n_dims)
    return found | {"windows": _windows(kinds, window, c), "local_rope": local}


def _olmo3(c: Config) -> dict[str, Any]:
    return _olmo2(c, 4096)


def _stablelm(c: Config) -> dict[str, Any]:
    found = _sizes(c)
    c.fixed("qk_layernorm", False)
    share, eps = c.positive("partial_rotary_factor", 0.25), c.positive("layer_norm_eps", 1e-5)
    # Older names of the same, which stand beside the newer ones.
    c.fixed("rope_pct", share)
    c.fixed("norm_eps", eps)
    c.fixed("rotary_scaling_factor", 1.0)
    return found | {
        "norm": "layer",
        "norm_eps": eps,
        "rope": c.rope(found["head_dim"], share),
        "qkv_bias": c.flag("use_qkv_bias"),
        "parallel": "one norm" if c.flag("use_parallel_residual") else "",
        "activation": c.one_of("hidden_act", _ACTIVATIONS, "silu"),
    }


def _gpt2(c: Config) -> dict[str, Any]:
    d_model, n_heads = c.whole("n_embd"), c.whole("n_head")
    c.fixed("scale_attn_weights", True)
    c.fixed("scale_attn_by_inverse_layer_idx", False)
    c.fixed("reorder_and_upcast_attn", False)
    c.fixed("add_cross_attention", False)
    return {
        "vocab_size": c.whole("vocab_size"),
        "d_model": d_model,
        "n_layers": c.whole("n_layer"),
        "n_heads": n_heads,
        "n_kv_heads": n_heads,
        "head_dim": d_model // n_heads,
        "d_ff": c.whole("n_inner", 4 * d_model),
        "max_positions": c.whole("n_positions", 1024),
        "tied_head": c.flag("tie_word_embeddings", True),
        "norm": "layer",
        "norm_eps": c.positive("layer_norm_epsilon", 1e-5),
        "rope": None,
        "qkv_bias": True,
        "out_bias": True,
        "mlp_bias": True,
        "gated": False,
        "activation": c.one_of("activation_function", _ACTIVATIONS, "gelu_new"),
    }


def _gpt_neo(c: Config) -> dict[str, Any]:
    d_model, n_heads, n_layers = c.whole("hidden_size"), c.whole("num_heads"), c.whole("num_layers")
    c.get("attention_types")
    kinds = c.per_layer("attention_layers", n_layers) or [("global", "local")[n % 2] for n in range(n_layers)]
    windows = {"global": 0, "local": c.whole("window_size", 256)}
    for kind in kinds:
        if not isinstance(kind, str) or kind not in windows:
            raise InputError(c.where, "attention_layers", "global or local", kind, "choose another base")
    return {
        "vocab_size": c.whole("vocab_size"),
        "d_model": d_model,
        "n_layers": n_layers,
        "n_heads": n_heads,
        "n_kv_heads": n_heads,
        "head_dim": d_model // n_heads,
        "d_ff": c.whole("intermediate_size", 4 * d_model),
        "max_positions": c.whole("max_position_embeddings", 2048),
        "tied_head": c.flag("tie_word_embeddings", True),
        "norm": "layer",
        "norm_eps": c.positive("layer_norm_epsilon", 1e-5),
        "rope": None,
        "attention_scale": 1.0,
        "windows": tuple(windows[kind] for kind in kinds),
        "out_bias": True,
        "mlp_bias": True,
        "gated": False,
        "activation": c.one_of("activation_function", _ACTIVATIONS, "gelu_new"),
    }


def _gpt_neox(c: Config) -> dict[str, Any]:
    found = _sizes(c)
    bias = c.flag("attention_bias", True)
    share, base = c.positive("rotary_pct", 0.25), c.positive("rotary_emb_base", 10000.0)
    return found | {
        "norm": "layer",
        "norm_eps": c.positive("layer_norm_eps", 1e-5),
        "rope": c.rope(found["head_dim"], share, base),
        "qkv_bias": bias,
        "out_bias": bias,
        "mlp_bias": True,
        "parallel": "two norms" if c.flag("use_parallel_residual", True) else "",
        "gated": False,
        "activation": c.one_of("hidden_act", _ACTIVATIONS, "gelu"),
    }


def _smollm3(c: Config) -> dict[str, Any]:
    c.fixed("use_sliding_window", False)
    c.fixed("sliding_window", None)
    c.get("max_window_layers")
    n_layers, every = c.whole("num_hidden_layers"), c.whole("no_rope_layer_interval", 4)
    turned = c.per_layer("no_rope_layers", n_layers) or [int((n + 1) % every != 0) for n in range(n_layers)]
    c.per_layer("layer_types", n_layers)
    unturned = tuple(n for n, flag in enumerate(turned) if not flag)
    return _llama(c) | {"unturned": unturned, "tied_head": c.flag("tie_word_embeddings", True)}


_GPT2_LAYER = {
    "attention_norm": "ln_1",
    "attention.query": "attn.c_attn",
    "attention.key": "attn.c_attn",
    "attention.value": "attn.c_attn",
    "attention.out": "attn.c_proj",
    "mlp_norm": "ln_2",
    "mlp.up": "mlp.c_fc",
    "mlp.down": "mlp.c_proj",
}
_GPT_NEO_LAYER = {
    "attention_norm": "ln_1",
    "attention.query": "attn.attention.q_proj",
    "attention.key": "attn.attention.k_proj",
    "attention.value": "attn.attention.v_proj",
    "attention.out": "attn.attention.out_proj",
    "mlp_norm": "ln_2",
    "mlp.up": "mlp.c_fc",
    "mlp.down": "mlp.c_proj",
}
_GPT_ENDS = {
    "embedding": "transformer.wte",
    "positions": "transformer.wpe",
    "norm": "transformer.ln_f",
    "head": "lm_head",
}
_NEOX_LAYER = {
    **_BEFORE,
    "attention.query": "attention.query_key_value",
    "attention.key": "attention.query_key_value",
    "attention.value": "attention.query_key_value",
    "attention.out": "attention.dense",
    "mlp.up": "mlp.dense_h_to_4h",
    "mlp.down": "mlp.dense_4h_to_h",
}
_NEOX_ENDS = {"embedding": "gpt_neox.embed_in", "norm": "gpt_neox.final_layer_norm", "head": "embed_out"}
_PHI3_LAYER = {
    **_BEFORE,
    "attention.query": "self_attn.qkv_proj",
    "attention.key": "self_attn.qkv_proj",
    "attention.value": "self_attn.qkv_proj",
    "attention.out": "self_attn.o_proj",
    "mlp.gate": "mlp.gate_up_proj",
    "mlp.up": "mlp.gate_up_proj",
    "mlp.down": "mlp.down_proj",
}
_SHARED = dict.fromkeys(("mlp.gate", "mlp.up"), "shared_mlp.input_linear")
_GRANITE_HYBRID_LAYER = {**_BEFORE, **_ATTENTION, **_SHARED, "mlp.down": "shared_mlp.output_linear"}
_OLMO_LAYER = {**_AFTER, **_ATTENTION, **_HEAD_NORMS, **_GATED}


def _named(layer: Mapping[str, str]) -> dict[str, str]:
    return {**_ENDS, **_layers("model.layers", layer)}


FAMILIES: dict[str, Family] = {
    "llama": Family(_llama, LLAMA_MODULES),
    "mistral": Family(_mistral, LLAMA_MODULES),
    "qwen2": Family(_qwen2, LLAMA_MODULES),
    "qwen3": Family(_qwen3, _named({**_PLAIN_LAYER, **_HEAD_NORMS})),
    "gemma": Family(_gemma, LLAMA_MODULES),
    "gemma2": Family(_gemma2, _named({**_BOTH, **_ATTENTION, **_GATED})),
    "gemma3_text": Family(_gemma3, _named({**_BOTH, **_ATTENTION, **_HEAD_NORMS, **_GATED})),
    "phi3": Family(_phi3, _named(_PHI3_LAYER)),
    "granite": Family(_granite, LLAMA_MODULES),
    "granitemoehybrid": Family(_granite_hybrid, _named(_GRANITE_HYBRID_LAYER)),
    "olmo2": Family(_olmo2, _named(_OLMO_LAYER)),
    "olmo3": Family(_olmo3, _named(_OLMO_LAYER)),
    "stablelm": Family(_stablelm, LLAMA_MODULES),
    "gpt2": Family(_gpt2, {**_GPT_ENDS, **_layers("transformer.h", _GPT2_LAYER)}, transposed=True),
    "gpt_neo": Family(_gpt_neo, {**_GPT_ENDS, **_layers("transformer.h", _GPT_NEO_LAYER)}),
    "gpt_neox": Family(_gpt_neox, {**_NEOX_ENDS, **_layers("gpt_neox.layers", _NEOX_LAYER)}, by_head=True),
    "smollm3": Family(_smollm3, LLAMA_MODULES),
}


# What the configs of parts for text leave out, as their family has it.
_UNSAID: dict[str, dict[str, Any]] = {
    "gemma3_text": {
        "vocab_size": 262208,
        "num_attention_heads": 8,
        "num_key_value_heads": 4,
        "head_dim": 256,
        "max_position_embeddings": 131072,
    }
}


# Parts for text that are a family's own, by another name.
_SAME = {f"{name}{end}": "qwen2" for name in ("qwen2_vl", "qwen2_5_vl") for end in ("", "_text")}
_SAME |= {"qwen3_vl_text": "qwen3"}


def reads_more_than_text(config: Mapping[str, Any]) -> bool:
    """Say whether a config is of a base that reads pictures or sounds too, with a part for text."""
    has_part = isinstance(config.get("text_config", config.get("vision_config")), Mapping)
    return has_part and str(config.get("model_type")) not in FAMILIES


def _of_text(config: Mapping[str, Any]) -> dict[str, Any]:
    """Return the config of the part for text, with what it leaves out; older ones have its keys beside those of all."""
    part = config.get("text_config", {key: value for key, value in config.items() if key != "vision_config"})
    name = str(part.get("model_type"))
    tied = {key: value for key, value in config.items() if key == "tie_word_embeddings"}
    same = {"model_type": _SAME[name]} if name in _SAME else {}
    return _UNSAID.get(name, {}) | tied | dict(part) | same


def spec_from_config(config: Mapping[str, Any], where: str) -> ModelSpec:
    """Return the spec that a config of a known family says; of a base that reads more than text, of its part for text.

    Raises InputError naming the key that is missing, out of range, or says something that the decoder cannot do.
    """
    if reads_more := reads_more_than_text(config):
        where += ", text_config" if "text_config" in config else ""
        config = _of_text(config)
    name = config.get("model_type")
    if not isinstance(name, str) or name not in FAMILIES:
        more = "it reads more than text; a .gguf file of it has the part for text alone"
        todo = more if reads_more else near_name(str(name), FAMILIES)
        raise InputError(where, "model_type", f"one of {', '.join(FAMILIES)}", name, todo)
    reader = Config(config, where)
    spec = ModelSpec(**FAMILIES[name].spec(reader), family=name)
    reader.finish()
    if spec.n_heads % spec.n_kv_heads:
        allowed = f"a divisor of {spec.n_heads}"
        raise InputError(where, "num_key_value_heads", allowed, spec.n_kv_heads, "check the file")
    return spec


def config_from_spec(spec: ModelSpec, end_id: int) -> dict[str, Any]:
    """Return the `config.json` of a plain decoder of the family `llama`, weights in float16."""
    if spec.family != "llama" or spec.rope is None:
        raise ValueError(f"only plain decoders of the family llama are written, this one is {spec.family}")
    return {
        "architectures": ["LlamaForCausalLM"],
        "model_type": "llama",
        "vocab_size": spec.vocab_size,
        "hidden_size": spec.d_model,
        "num_hidden_layers": spec.n_layers,
        "num_attention_heads": spec.n_heads,
        "num_key_value_heads": spec.n_kv_heads,
        "head_dim": spec.head_dim,
        "intermediate_size": spec.d_ff,
        "hidden_act": "silu",
        "rms_norm_eps": spec.norm_eps,
        "rope_theta": spec.rope.base,
        "max_position_embeddings": spec.max_positions,
        "tie_word_embeddings": spec.tied_head,
        "torch_dtype": "float16",
        "eos_token_id": end_id,
    }
