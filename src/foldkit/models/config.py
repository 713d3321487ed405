"""Reading a model's own config: every key is used, known to say nothing about the decoder, or refused by name."""

from __future__ import annotations

import math
import re
from collections.abc import Mapping
from typing import Any

from foldkit.formats.errors import InputError

from .rotary import Rope

# Keys that say nothing about what the decoder computes when it answers or when its adapter is trained.
_INERT = re.compile(
    r"_.*|architectures|auto_map|.*dtype|.*token_ids?|.*dropout.*|.*_?pdrop.*|initializer_range|.*_version|.*\.js_config|use_cache"
    r"|pretraining_tp|gradient_checkpointing|output_.*|return_dict|tokenizer_class|task_specific_params|summary_.*"
    r"|id2label|label2id|problem_type|finetuning_task|chunk_size.*|pruned_heads|is_.*|model_type|name_or_path|n_ctx"
    r"|cache_implementation|use_flash_attn|use_mamba_kernels|original_max_position_embeddings|classifier_.*|.*_fixed"
    # how answers are drawn by default
    r"|do_sample|temperature|top_[kp]|typical_p|num_beam.*|num_return_sequences|(max|min)_length|.*_penalty"
    r"|.*no_repeat_ngram_size|early_stopping"
)
_NOTHING: tuple[Any, ...] = (None, False, [], {}, "", 0)
_TODO = "choose another base"
_TODOS = {"quantization_config": "choose its files in plain floats, or a .gguf file of it"}


class Config:
    """A config's values by key, with the keys that were read."""

    def __init__(self, values: Mapping[str, Any], where: str) -> None:
        self.values, self.where, self._read = values, where, {"model_type"}

    def get(self, key: str, default: Any = None) -> Any:
        """Return a value, the default where it is missing or null."""
        self._read.add(key)
        value = self.values.get(key)
        return default if value is None else value

    def whole(self, key: str, default: int | None = None) -> int:
        """Return a whole number from 1 to 2**24."""
        value = self.get(key, default)
        if not isinstance(value, int) or isinstance(value, bool) or not 1 <= value <= 2**24:
            todo = "check that the file is complete"
            raise InputError(self.where, key, "a whole number from 1 to 16777216", value, todo)
        return value

    def positive(self, key: str, default: float | None = None) -> float:
        """Return a positive finite number."""
        value = self.get(key, default)
        if not isinstance(value, int | float) or isinstance(value, bool) or not 0 < value < float("inf"):
            raise InputError(self.where, key, "a positive number", value, "check that the file is complete")
        return float(value)

    def whole_or_none(self, key: str) -> int:
        """Return a whole number, 0 where the key is missing or null."""
        return 0 if self.get(key) in (None, 0) else self.whole(key)

    def cap(self, key: str) -> float:
        """Return a bound, 0 where the key is missing or null."""
        return 0.0 if self.get(key) is None else self.positive(key)

    def flag(self, key: str, default: bool = False) -> bool:
        """Return true or false."""
        value = self.get(key, default)
        if not isinstance(value, bool):
            raise InputError(self.where, key, "true or false", value, "check that the file is complete")
        return value

    def one_of(self, key: str, allowed: Mapping[Any, Any], default: Any) -> Any:
        """Return what `allowed` gives for the value; raises InputError naming the key for any other."""
        value = self.get(key, default)
        if not isinstance(value, str) or value not in allowed:
            raise InputError(self.where, key, " or ".join(map(repr, allowed)), value, _TODO)
        return allowed[value]

    def fixed(self, key: str, *allowed: Any) -> None:
        """Refuse a value other than these, the first of which is meant where the key is missing."""
        if (value := self.get(key, allowed[0])) not in allowed:
            raise InputError(self.where, key, " or ".join(map(repr, allowed)), value, _TODO)

    def per_layer(self, key: str, n_layers: int) -> list[Any] | None:
        """Return a list with a value for each layer, None where the key is missing."""
        value = self.get(key)
        if value is not None and (not isinstance(value, list) or len(value) != n_layers):
            raise InputError(self.where, key, f"a list of {n_layers}", value, "check that the file is complete")
        return value

    def rope(self, head_dim: int, share: float = 1.0, base: float = 10000.0, layers: str = "") -> Rope:
        """Return the rotary positions of the config, in its older or its newer form.

        `layers` is the kind of layers that they are for, where the newer form has a table for each.
        """
        older, newer = self.get("rope_scaling"), self.get("rope_parameters")
        given = newer or older or {}
        if self.has_rope_of(layers):
            given = given[layers]
        if not isinstance(given, Mapping):
            raise InputError(self.where, "rotary scaling", "a table of keys", given, "check the file")
        inner = Config(given, f"{self.where}, rotary scaling")
        base = inner.positive("rope_theta", self.positive("rope_theta", base))
        if base <= 1:
            raise InputError(self.where, "rope_theta", "a number above 1", base, "check the file")
        share = inner.positive("partial_rotary_factor", share)
        n_dims = int(head_dim * share)
        if n_dims % 2 or not 0 < n_dims <= head_dim:
            raise InputError(self.where, "turned dims", "an even number, at most those of a head", n_dims, _TODO)
        # Sections of a head are turned by rows and columns of pictures; of text they are turned alike.
        for key in ("mrope_section", "mrope_interleaved"):
            inner.get(key)
        kinds = dict(zip(_KINDS, _KINDS, strict=True)) | {"default": "none", "mrope": "none", "su": "longrope"}
        kind = inner.one_of("rope_type", kinds, inner.get("type", "none"))
        rope = Rope(base, n_dims, **self._scaling(kind, inner, n_dims))
        inner.finish()
        return rope

    def has_rope_of(self, layers: str) -> bool:
        """Say whether there is a table of rotary positions for this kind of layers."""
        newer = self.get("rope_parameters")
        return isinstance(newer, Mapping) and layers in newer

    def finish(self, inert: re.Pattern[str] = _INERT) -> None:
        """Raise InputError for the first key that was not read, is not `inert`, and says something."""
        for key, value in self.values.items():
            if key not in self._read and not inert.fullmatch(key) and value not in _NOTHING:
                todo = _TODOS.get(key, _TODO)
                raise InputError(self.where, key, "a key that this family is known by", value, todo)

    def _scaling(self, kind: str, inner: Config, n_dims: int) -> dict[str, Any]:
        if kind == "none":
            return {}
        if kind == "linear":
            return {"scaling": kind, "factor": inner.positive("factor")}
        limit = self.whole("max_position_embeddings", 2048)
        top = self.values.get("original_max_position_embeddings")
        original = inner.whole("original_max_position_embeddings", top or limit)
        if kind == "longrope":
            return self._long(inner, n_dims, limit, original)
        factor = inner.positive("factor")
        if kind == "llama3":
            bounds = {"low": inner.positive("low_freq_factor"), "high": inner.positive("high_freq_factor")}
            if bounds["high"] <= bounds["low"]:
                allowed = f"above low_freq_factor {bounds['low']:g}"
                raise InputError(inner.where, "high_freq_factor", allowed, bounds["high"], "check the file")
            return {"scaling": kind, "factor": factor, "original": original, **bounds}
        inner.fixed("mscale", None)
        inner.fixed("mscale_all_dim", None)
        inner.fixed("truncate", True)
        gain = inner.positive("attention_factor", yarn_gain(factor))
        bounds = {"low": inner.positive("beta_slow", 1.0), "high": inner.positive("beta_fast", 32.0)}
        return {"scaling": kind, "factor": factor, "original": original, "gain": gain, **bounds}

    def _long(self, inner: Config, n_dims: int, limit: int, original: int) -> dict[str, Any]:
        """Return the stretching within the original positions; longer contexts would need other factors."""
        inner.get("long_factor")
        factors = inner.get("short_factor")
        if not isinstance(factors, list) or len(factors) != n_dims // 2:
            raise InputError(inner.where, "short_factor", f"a list of {n_dims // 2}", factors, "check the file")
        factor = inner.positive("factor", limit / original)
        plain = math.sqrt(1 + math.log(factor) / math.log(original)) if factor > 1 else 1.0
        gain = inner.positive("attention_factor", plain)
        found = {"factors": tuple(map(float, factors)), "gain": gain}
        return {"scaling": "longrope", "factor": factor, "original": original, **found}


_KINDS = ("none", "linear", "llama3", "yarn", "longrope")


def yarn_gain(factor: float) -> float:
    """Return the gain of cosines and sines for a stretching (Peng et al. 2023, section 3.4, eq. 22)."""
    return 0.1 * math.log(factor) + 1 if factor > 1 else 1.0
