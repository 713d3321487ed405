"""A decoder in NumPy, written from the papers and not from our code: one sequence, one head, one position at a time.

RMS norm: Zhang and Sennrich 2019, eq. 4. Rotary positions: Su et al. 2021, eq. 34, in the layout of halves. Grouped
queries: Ainslie et al. 2023. SwiGLU: Shazeer 2020. Softmax attention: Vaswani et al. 2017, eq. 1.
"""

from __future__ import annotations

import math
from collections.abc import Mapping, Sequence

import numpy as np

from foldkit.models import ModelSpec

Array = np.ndarray


def norm(x: Array, weight: Array, eps: float) -> Array:
    return x / math.sqrt(float(np.mean(x**2)) + eps) * weight


def turn(x: Array, position: int, base: float) -> Array:
    """Rotate the plane of coordinates (i, i + half) by position * base^(-2i / size)."""
    half, out = len(x) // 2, np.empty_like(x)
    for i in range(half):
        angle = position * base ** (-2 * i / len(x))
        out[i] = x[i] * math.cos(angle) - x[i + half] * math.sin(angle)
        out[i + half] = x[i] * math.sin(angle) + x[i + half] * math.cos(angle)
    return out


def logits(spec: ModelSpec, weights: Mapping[str, Array], ids: Sequence[int]) -> Array:
    """Return logits (seq, vocab_size) in float64."""
    stream = [weights["embedding.weight"][token].copy() for token in ids]
    group = spec.n_heads // spec.n_kv_heads
    for layer in range(spec.n_layers):
        w = {
            name[len(f"layers.{layer}.") :]: value
            for name, value in weights.items()
            if name.startswith(f"layers.{layer}.")
        }
        normed = [norm(x, w["attention_norm.weight"], spec.norm_eps) for x in stream]
        queries = [(w["attention.query.weight"] @ x).reshape(spec.n_heads, -1) for x in normed]
        keys = [(w["attention.key.weight"] @ x).reshape(spec.n_kv_heads, -1) for x in normed]
        values = [(w["attention.value.weight"] @ x).reshape(spec.n_kv_heads, -1) for x in normed]
        for here in range(len(ids)):
            heads = []
            for head in range(spec.n_heads):
                query = turn(queries[here][head], here, spec.rope.base)
                scores = np.array(
                    [query @ turn(keys[there][head // group], there, spec.rope.base) for there in range(here + 1)]
                ) / math.sqrt(spec.head_dim)
                shares = np.exp(scores - scores.max())
                shares /= shares.sum()
                heads.append(sum(share * values[there][head // group] for there, share in enumerate(shares)))
            stream[here] = stream[here] + w["attention.out.weight"] @ np.concatenate(heads)
        for here, x in enumerate(stream):
            y = norm(x, w["mlp_norm.weight"], spec.norm_eps)
            gate = w["mlp.gate.weight"] @ y
            stream[here] = x + w["mlp.down.weight"] @ (gate / (1 + np.exp(-gate)) * (w["mlp.up.weight"] @ y))
    head = weights.get("head.weight", weights["embedding.weight"])
    return np.array([head @ norm(x, weights["norm.weight"], spec.norm_eps) for x in stream])
