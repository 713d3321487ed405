"""Each family written down once more in NumPy, from its published definition, over raw configs and raw file tensors.

Arrays are (seq, …), and heads are looped over. Nothing is shared with the code under test: no spec, no names of ours.
Returns the residual stream after every layer, and the logits.
"""

from __future__ import annotations

import math
from collections.abc import Callable, Mapping
from typing import Any

import numpy as np

Array = np.ndarray
Tensors = Mapping[str, Array]


def rms(x: Array, weight: Array, eps: float) -> Array:
    return x / np.sqrt((x * x).mean(-1, keepdims=True) + eps) * weight


def layer_norm(x: Array, weight: Array, bias: Array, eps: float) -> Array:
    centred = x - x.mean(-1, keepdims=True)
    return centred / np.sqrt((centred * centred).mean(-1, keepdims=True) + eps) * weight + bias


def silu(x: Array) -> Array:
    return x / (1 + np.exp(-x))


def gelu(x: Array) -> Array:
    return x * 0.5 * (1 + np.vectorize(math.erf)(x / math.sqrt(2)))


def gelu_tanh(x: Array) -> Array:
    return 0.5 * x * (1 + np.tanh(math.sqrt(2 / math.pi) * (x + 0.044715 * x**3)))


def inverse_frequencies(n_dims: int, base: float) -> Array:
    return np.array([1 / base ** (2 * i / n_dims) for i in range(n_dims // 2)])


def turned(x: Array, frequencies: Array, gain: float = 1.0) -> Array:
    """Rotate the first dims of x (seq, dim): dim i goes with dim i + half."""
    half = len(frequencies)
    out = x.copy()
    for place in range(len(x)):
        cos, sin = np.cos(place * frequencies) * gain, np.sin(place * frequencies) * gain
        a, b = x[place, :half], x[place, half : 2 * half]
        out[place, :half], out[place, half : 2 * half] = a * cos - b * sin, b * cos + a * sin
    return out


def attention(
    q: list[Array], k: list[Array], v: list[Array], scale: float, window: int | None = None, cap: float | None = None
) -> Array:
    """Mix per head, queries of several heads sharing a key head; returns (seq, heads * dim)."""
    share, outs = len(q) // len(k), []
    for head, queries in enumerate(q):
        keys, values = k[head // share], v[head // share]
        rows = []
        for i in range(len(queries)):
            first = 0 if window is None else max(0, i - window + 1)
            scores = np.array([queries[i] @ keys[j] * scale for j in range(first, i + 1)])
            if cap:
                scores = np.tanh(scores / cap) * cap
            shares = np.exp(scores - scores.max())
            rows.append(shares / shares.sum() @ values[first : i + 1])
        outs.append(np.array(rows))
    return np.concatenate(outs, axis=1)


def heads(x: Array, n: int) -> list[Array]:
    return np.split(x, n, axis=1)


def linear(x: Array, t: Tensors, name: str) -> Array:
    bias = t.get(f"{name}.bias")
    return x @ t[f"{name}.weight"].T + (0 if bias is None else bias)


def head_dim(c: Mapping[str, Any]) -> int:
    return c.get("head_dim") or c["hidden_size"] // c["num_attention_heads"]


def rope_llama(c: Mapping[str, Any]) -> tuple[Array, float]:
    """Frequencies and gain of a config's rotary positions, its stretching included."""
    n_dims = int(head_dim(c) * c.get("partial_rotary_factor", 1.0))
    base, scaling = c.get("rope_theta", 10000.0), c.get("rope_scaling") or {}
    plain = inverse_frequencies(n_dims, base)
    kind = scaling.get("rope_type", "default")
    if kind == "linear":
        return plain / scaling["factor"], 1.0
    if kind == "llama3":
        original, factor = scaling["original_max_position_embeddings"], scaling["factor"]
        low, high, out = scaling["low_freq_factor"], scaling["high_freq_factor"], []
        for f in plain:
            wave = 2 * math.pi / f
            if wave < original / high:
                out.append(f)
            elif wave > original / low:
                out.append(f / factor)
            else:
                smooth = (original / wave - low) / (high - low)
                out.append((1 - smooth) * f / factor + smooth * f)
        return np.array(out), 1.0
    if kind == "yarn":
        original, factor = scaling["original_max_position_embeddings"], scaling["factor"]
        pair = [n_dims * math.log(original / (turns * 2 * math.pi)) / (2 * math.log(base)) for turns in (32, 1)]
        low, high = max(math.floor(pair[0]), 0), min(math.ceil(pair[1]), n_dims - 1)
        out = []
        for i, f in enumerate(plain):
            ramp = min(max((i - low) / max(high - low, 0.001), 0), 1)
            out.append(f / factor * ramp + f * (1 - ramp))
        return np.array(out), 0.1 * math.log(factor) + 1
    if kind == "longrope":
        original = c["original_max_position_embeddings"]
        gain = math.sqrt(1 + math.log(c["max_position_embeddings"] / original) / math.log(original))
        return plain / np.array(scaling["short_factor"]), gain
    return plain, 1.0


def llama_like(c: Mapping[str, Any], t: Tensors, ids: list[int]) -> tuple[list[Array], Array]:
    """Llama, Mistral, Qwen 2 and 3, Phi-3, Granite 3 and 4, SmolLM3: RMS norm first, gated SiLU."""
    n_heads, n_kv, dim, eps = c["num_attention_heads"], c["num_key_value_heads"], head_dim(c), c["rms_norm_eps"]
    frequencies, gain = rope_llama(c)
    kind = c["model_type"]
    hybrid = kind == "granitemoehybrid"
    first, last = ("input_linear", "output_linear") if hybrid else ("gate_up_proj", "down_proj")
    first, last = (f"{'shared_mlp' if hybrid else 'mlp'}.{name}" for name in (first, last))
    x = t["model.embed_tokens.weight"][ids] * c.get("embedding_multiplier", 1.0)
    add, scale = c.get("residual_multiplier", 1.0), c.get("attention_multiplier", dim**-0.5)
    streams = []
    for n in range(c["num_hidden_layers"]):
        at = f"model.layers.{n}."
        y = rms(x, t[at + "input_layernorm.weight"], eps)
        if kind == "phi3":
            fused = y @ t[at + "self_attn.qkv_proj.weight"].T
            q, k, v = np.split(fused, [n_heads * dim, (n_heads + n_kv) * dim], axis=1)
        else:
            q, k, v = (linear(y, t, f"{at}self_attn.{name}_proj") for name in "qkv")
        qs, ks, vs = heads(q, n_heads), heads(k, n_kv), heads(v, n_kv)
        if kind == "qwen3":
            qs = [rms(one, t[at + "self_attn.q_norm.weight"], eps) for one in qs]
            ks = [rms(one, t[at + "self_attn.k_norm.weight"], eps) for one in ks]
        own = c.get("position_embedding_type") == "rope" if hybrid else kind != "smollm3" or c["no_rope_layers"][n]
        if own:
            qs, ks = ([turned(one, frequencies, gain) for one in some] for some in (qs, ks))
        window = c["sliding_window"] if kind in ("mistral", "phi3") else None
        if kind == "qwen2" and c["use_sliding_window"] and n >= c["max_window_layers"]:
            window = c["sliding_window"]
        x = x + add * linear(attention(qs, ks, vs, scale, window), t, at + "self_attn.o_proj")
        y = rms(x, t[at + "post_attention_layernorm.weight"], eps)
        if kind == "phi3" or hybrid:
            gate, up = np.split(linear(y, t, at + first), 2, axis=1)
        else:
            gate, up = linear(y, t, at + "mlp.gate_proj"), linear(y, t, at + "mlp.up_proj")
        x = x + add * linear(silu(gate) * up, t, at + last)
        streams.append(x)
    head = t["model.embed_tokens.weight"] if c["tie_word_embeddings"] else t["lm_head.weight"]
    return streams, rms(x, t["model.norm.weight"], eps) @ head.T / c.get("logits_scaling", 1.0)


def gemma_like(c: Mapping[str, Any], t: Tensors, ids: list[int]) -> tuple[list[Array], Array]:
    """Gemma, 2 and 3: one is added to norm weights, embeddings are scaled, norms on both sides from 2 on."""
    n_heads, n_kv, dim, eps = c["num_attention_heads"], c["num_key_value_heads"], c["head_dim"], c["rms_norm_eps"]
    first = c["model_type"] == "gemma"
    third = c["model_type"] == "gemma3_text"
    scale = dim**-0.5 if first else c["query_pre_attn_scalar"] ** -0.5
    x = t["model.embed_tokens.weight"][ids] * math.sqrt(c["hidden_size"])
    streams = []

    def norm(value: Array, name: str) -> Array:
        return rms(value, 1 + t[name + ".weight"], eps)

    for n in range(c["num_hidden_layers"]):
        at = f"model.layers.{n}."
        local = (n + 1) % c["sliding_window_pattern"] != 0 if third else n % 2 == 0 and not first
        frequencies = inverse_frequencies(dim, c["rope_local_base_freq"] if third and local else c["rope_theta"])
        if third and not local:
            frequencies = frequencies / c["rope_scaling"]["factor"]
        y = norm(x, at + "input_layernorm")
        q, k, v = (linear(y, t, f"{at}self_attn.{name}_proj") for name in "qkv")
        qs, ks, vs = heads(q, n_heads), heads(k, n_kv), heads(v, n_kv)
        if third:
            qs = [norm(one, at + "self_attn.q_norm") for one in qs]
            ks = [norm(one, at + "self_attn.k_norm") for one in ks]
        qs, ks = ([turned(one, frequencies) for one in some] for some in (qs, ks))
        window = c["sliding_window"] if local else None
        mixed = attention(qs, ks, vs, scale, window, c.get("attn_logit_softcapping"))
        mixed = linear(mixed, t, at + "self_attn.o_proj")
        x = x + (mixed if first else norm(mixed, at + "post_attention_layernorm"))
        y = norm(x, at + ("post_attention_layernorm" if first else "pre_feedforward_layernorm"))
        inner = gelu_tanh(linear(y, t, at + "mlp.gate_proj")) * linear(y, t, at + "mlp.up_proj")
        out = linear(inner, t, at + "mlp.down_proj")
        x = x + (out if first else norm(out, at + "post_feedforward_layernorm"))
        streams.append(x)
    logits = norm(x, "model.norm") @ t["model.embed_tokens.weight"].T
    cap = c.get("final_logit_softcapping")
    return streams, np.tanh(logits / cap) * cap if cap else logits


def olmo2(c: Mapping[str, Any], t: Tensors, ids: list[int]) -> tuple[list[Array], Array]:
    """OLMo 2: norms after attention and MLP, over whole queries and keys; 3: windows but for every fourth layer."""
    n_heads, n_kv, eps = c["num_attention_heads"], c["num_key_value_heads"], c["rms_norm_eps"]
    plain = inverse_frequencies(head_dim(c), c["rope_theta"]), 1.0
    x, streams = t["model.embed_tokens.weight"][ids], []
    for n in range(c["num_hidden_layers"]):
        at = f"model.layers.{n}."
        window = c["sliding_window"] if c["model_type"] == "olmo3" and n % 4 != 3 else None
        turns = plain if window else rope_llama(c)
        q = rms(linear(x, t, at + "self_attn.q_proj"), t[at + "self_attn.q_norm.weight"], eps)
        k = rms(linear(x, t, at + "self_attn.k_proj"), t[at + "self_attn.k_norm.weight"], eps)
        v = linear(x, t, at + "self_attn.v_proj")
        qs, ks = ([turned(one, *turns) for one in some] for some in (heads(q, n_heads), heads(k, n_kv)))
        mixed = attention(qs, ks, heads(v, n_kv), head_dim(c) ** -0.5, window)
        x = x + rms(linear(mixed, t, at + "self_attn.o_proj"), t[at + "post_attention_layernorm.weight"], eps)
        inner = silu(linear(x, t, at + "mlp.gate_proj")) * linear(x, t, at + "mlp.up_proj")
        x = x + rms(linear(inner, t, at + "mlp.down_proj"), t[at + "post_feedforward_layernorm.weight"], eps)
        streams.append(x)
    return streams, rms(x, t["model.norm.weight"], eps) @ t["lm_head.weight"].T


def stablelm(c: Mapping[str, Any], t: Tensors, ids: list[int]) -> tuple[list[Array], Array]:
    """StableLM: layer norms, a part of each head turned, attention and MLP in parallel where the config says so."""
    n_heads, n_kv, eps, dim = c["num_attention_heads"], c["num_key_value_heads"], c["layer_norm_eps"], head_dim(c)
    frequencies = inverse_frequencies(int(dim * c["partial_rotary_factor"]), c["rope_theta"])
    x, streams = t["model.embed_tokens.weight"][ids], []
    for n in range(c["num_hidden_layers"]):
        at = f"model.layers.{n}."
        y = layer_norm(x, t[at + "input_layernorm.weight"], t[at + "input_layernorm.bias"], eps)
        q, k, v = (linear(y, t, f"{at}self_attn.{name}_proj") for name in "qkv")
        qs, ks = ([turned(one, frequencies) for one in some] for some in (heads(q, n_heads), heads(k, n_kv)))
        mixed = linear(attention(qs, ks, heads(v, n_kv), dim**-0.5), t, at + "self_attn.o_proj")
        if c["use_parallel_residual"]:
            z = y
        else:
            x, mixed = x + mixed, 0 * mixed
            z = layer_norm(x, t[at + "post_attention_layernorm.weight"], t[at + "post_attention_layernorm.bias"], eps)
        inner = silu(linear(z, t, at + "mlp.gate_proj")) * linear(z, t, at + "mlp.up_proj")
        x = x + mixed + linear(inner, t, at + "mlp.down_proj")
        streams.append(x)
    return streams, layer_norm(x, t["model.norm.weight"], t["model.norm.bias"], eps) @ t["lm_head.weight"].T


def gpt(c: Mapping[str, Any], t: Tensors, ids: list[int]) -> tuple[list[Array], Array]:
    """GPT-2 and GPT-Neo: learned positions, layer norms, plain MLP with the tanh form of GELU."""
    neo, eps = c["model_type"] == "gpt_neo", c["layer_norm_epsilon"]
    n_layers, n_heads = (c["num_layers"], c["num_heads"]) if neo else (c["n_layer"], c["n_head"])
    x, streams = t["transformer.wte.weight"][ids] + t["transformer.wpe.weight"][: len(ids)], []

    def norm(value: Array, name: str) -> Array:
        return layer_norm(value, t[name + ".weight"], t[name + ".bias"], eps)

    def mapped(value: Array, name: str) -> Array:
        # GPT-2's maps are stored as (inputs, outputs).
        return linear(value, t, name) if neo else value @ t[name + ".weight"] + t[name + ".bias"]

    for n in range(n_layers):
        at = f"transformer.h.{n}."
        y = norm(x, at + "ln_1")
        if neo:
            q, k, v = (linear(y, t, f"{at}attn.attention.{name}_proj") for name in "qkv")
            window = c["window_size"] if c["attention_layers"][n] == "local" else None
            scale, out = 1.0, at + "attn.attention.out_proj"
        else:
            q, k, v = np.split(mapped(y, at + "attn.c_attn"), 3, axis=1)
            window, scale, out = None, (q.shape[1] // n_heads) ** -0.5, at + "attn.c_proj"
        x = x + mapped(attention(heads(q, n_heads), heads(k, n_heads), heads(v, n_heads), scale, window), out)
        x = x + mapped(gelu_tanh(mapped(norm(x, at + "ln_2"), at + "mlp.c_fc")), at + "mlp.c_proj")
        streams.append(x)
    return streams, norm(x, "transformer.ln_f") @ t["transformer.wte.weight"].T


def gpt_neox(c: Mapping[str, Any], t: Tensors, ids: list[int]) -> tuple[list[Array], Array]:
    """GPT-NeoX: rows of queries, keys and values alternate by head, a part of each head is turned."""
    n_heads, eps, dim = c["num_attention_heads"], c["layer_norm_eps"], head_dim(c)
    frequencies = inverse_frequencies(int(dim * c["rotary_pct"]), c["rotary_emb_base"])
    x, streams = t["gpt_neox.embed_in.weight"][ids], []

    def norm(value: Array, name: str) -> Array:
        return layer_norm(value, t[name + ".weight"], t[name + ".bias"], eps)

    for n in range(c["num_hidden_layers"]):
        at = f"gpt_neox.layers.{n}."
        fused = linear(norm(x, at + "input_layernorm"), t, at + "attention.query_key_value")
        blocks = heads(fused, 3 * n_heads)
        qs, ks, vs = blocks[0::3], blocks[1::3], blocks[2::3]
        qs, ks = ([turned(one, frequencies) for one in some] for some in (qs, ks))
        mixed = linear(attention(qs, ks, vs, dim**-0.5), t, at + "attention.dense")
        before = x if c["use_parallel_residual"] else x + mixed
        inner = gelu(linear(norm(before, at + "post_attention_layernorm"), t, at + "mlp.dense_h_to_4h"))
        x = x + mixed + linear(inner, t, at + "mlp.dense_4h_to_h")
        streams.append(x)
    return streams, norm(x, "gpt_neox.final_layer_norm") @ t["embed_out.weight"].T


LLAMA_LIKE = ("llama", "mistral", "qwen2", "qwen3", "phi3", "granite", "granitemoehybrid", "smollm3")
ORACLES: dict[str, Callable[[Mapping[str, Any], Tensors, list[int]], tuple[list[Array], Array]]] = {
    **dict.fromkeys(LLAMA_LIKE, llama_like),
    **dict.fromkeys(("gemma", "gemma2", "gemma3_text"), gemma_like),
    **dict.fromkeys(("gpt2", "gpt_neo"), gpt),
    **dict.fromkeys(("olmo2", "olmo3"), olmo2),
    "stablelm": stablelm,
    "gpt_neox": gpt_neox,
}
