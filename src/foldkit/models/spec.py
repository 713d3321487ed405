"""What a decoder is made of, read once from a model's own config."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from typing import Any

from foldkit.formats.errors import InputError


@dataclass(frozen=True)
class ModelSpec:
    """A decoder of RMS norms, half-rotated rotary positions, grouped queries and a gated SiLU MLP."""

    vocab_size: int
    d_model: int
    n_layers: int
    n_heads: int
    n_kv_heads: int
    head_dim: int
    d_ff: int
    norm_eps: float
    rope_base: float
    max_positions: int
    tied_head: bool

    @property
    def n_parameters(self) -> int:
        """Count of all weights, a tied head counted once."""
        attention = self.d_model * self.head_dim * (2 * self.n_heads + 2 * self.n_kv_heads)
        layer = attention + 3 * self.d_model * self.d_ff + 2 * self.d_model
        heads = 1 if self.tied_head else 2
        return self.n_layers * layer + heads * self.vocab_size * self.d_model + self.d_model


# Keys whose values the decoder can only serve when they are absent or one of these.
_FIXED: dict[str, tuple[Any, ...]] = {
    "hidden_act": ("silu",),
    "attention_bias": (False,),
    "mlp_bias": (False,),
    "rope_scaling": (None,),
}


def spec_from_config(config: Mapping[str, Any], where: str) -> ModelSpec:
    """Read a `config.json` mapping of model type `llama`.

    Raises InputError naming the key when it is missing or says something this decoder cannot do.
    """
    if config.get("model_type") != "llama":
        raise InputError(where, "model_type", "llama", config.get("model_type"), "choose a base of a known family")
    for key, allowed in _FIXED.items():
        if config.get(key, allowed[0]) not in allowed:
            raise InputError(where, key, " or ".join(map(repr, allowed)), config[key], "choose another base")
    rope = config.get("rope_parameters") or {}
    if rope.get("rope_type", "default") != "default":
        raise InputError(where, "rope_parameters.rope_type", "default", rope["rope_type"], "choose another base")
    d_model, n_heads = _whole(config, "hidden_size", where), _whole(config, "num_attention_heads", where)
    spec = ModelSpec(
        vocab_size=_whole(config, "vocab_size", where),
        d_model=d_model,
        n_layers=_whole(config, "num_hidden_layers", where),
        n_heads=n_heads,
        n_kv_heads=_whole(config, "num_key_value_heads", where, n_heads),
        head_dim=_whole(config, "head_dim", where, max(1, d_model // n_heads)),
        d_ff=_whole(config, "intermediate_size", where),
        norm_eps=_positive(config.get("rms_norm_eps", 1e-6), "rms_norm_eps", where),
        rope_base=_positive(config.get("rope_theta", rope.get("rope_theta", 10000.0)), "rope_theta", where),
        max_positions=_whole(config, "max_position_embeddings", where, 2048),
        tied_head=bool(config.get("tie_word_embeddings", False)),
    )
    if spec.n_heads % spec.n_kv_heads:
        raise InputError(
            where, "num_key_value_heads", f"a divisor of {spec.n_heads}", spec.n_kv_heads, "check the file"
        )
    if spec.head_dim % 2:
        raise InputError(where, "head_dim", "an even number", spec.head_dim, "check the file")
    return spec


def config_from_spec(spec: ModelSpec, end_id: int) -> dict[str, Any]:
    """Return the `config.json` mapping that describes `spec`, weights in float16."""
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
        "rope_theta": spec.rope_base,
        "max_position_embeddings": spec.max_positions,
        "tie_word_embeddings": spec.tied_head,
        "torch_dtype": "float16",
        "eos_token_id": end_id,
    }


def _whole(config: Mapping[str, Any], key: str, where: str, default: int | None = None) -> int:
    value = config.get(key, default)
    if value is None:
        value = default
    if not isinstance(value, int) or isinstance(value, bool) or not 1 <= value <= 2**24:
        raise InputError(where, key, "a whole number from 1 to 16777216", value, "check that the file is complete")
    return value


def _positive(value: Any, key: str, where: str) -> float:
    if not isinstance(value, int | float) or not 0 < value < float("inf"):
        raise InputError(where, key, "a positive number", value, "check that the file is complete")
    return float(value)
