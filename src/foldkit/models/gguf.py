"""A base in one GGUF file: its spec from the metadata, its blocks expanded to float32."""

from __future__ import annotations

import dataclasses
import itertools
import re
from collections.abc import Iterator
from pathlib import Path
from typing import Any

import numpy as np
import torch
from torch import Tensor

from foldkit.formats import GgufFile, GgufTensor, InputError, expand_blocks, near_name

from .config import Config
from .families import spec_from_config
from .gguf_families import COMMON, GGUF_FAMILIES, GgufFamily
from .held import Packed
from .spec import ModelSpec
from .weights import Shapes, file_names, parameter_shapes

_TODO = "fetch the file again"
# Metadata, behind the architecture's name, that say nothing about what is computed of text, or nothing by themselves.
_INERT = re.compile(
    r"[^.]+\.(vocab_size|tensor_data_layout|n_deepstack_layers"
    r"|rope\.(dimension_sections|scaling\.(finetuned|original_context_length)))"
)
# What the stretching "yarn" has besides its factor.
_YARN = {
    "original_max_position_embeddings": "original_context_length",
    "attention_factor": "yarn_attn_factor",
    "beta_fast": "yarn_beta_fast",
    "beta_slow": "yarn_beta_slow",
}
# Tensors that hold a factor for each angle of the rotary positions.
_FACTORS = ("rope_freqs.weight", "rope_factors_short.weight")

# The largest models of these families, known by their count of layers, scale by the width of a head of the stream; the
# format does not say it.
_SCALED_BY_WIDTH = {"gemma2": 46, "gemma3_text": 62}


def family_of(file: GgufFile) -> GgufFamily:
    """Return how the file's architecture is read; raises InputError for one that is not known."""
    name = file.metadata.get("general.architecture")
    if not isinstance(name, str) or name not in GGUF_FAMILIES:
        allowed = f"one of {', '.join(GGUF_FAMILIES)}"
        todo = near_name(str(name), GGUF_FAMILIES)
        raise InputError(file.path, "general.architecture", allowed, name, todo)
    return GGUF_FAMILIES[name]


def spec_of(file: GgufFile) -> ModelSpec:
    """Read the spec from the metadata of a file, and from the tensors what only they tell."""
    family, where = family_of(file), str(file.path)
    if (n_parts := file.metadata.get("split.count", 1)) not in (0, 1):
        raise InputError(where, "split.count", "a base in one file", n_parts, "join its parts into one file")
    if "token_embd.weight" not in file.tensors:
        raise InputError(where, "tensor token_embd.weight", "an embedding", None, _TODO)
    prefix = file.metadata["general.architecture"]
    own = {key: value for key, value in file.metadata.items() if key.startswith(f"{prefix}.")}
    metadata = Config(own, where)
    given = {key: metadata.get(f"{prefix}.{name}") for key, name in {**COMMON, **family.keys}.items() if name}
    config: dict[str, Any] = {key: value for key, value in given.items() if value is not None}
    config["model_type"] = family.model_type
    config["vocab_size"] = file.tensors["token_embd.weight"].shape[0]
    config["tie_word_embeddings"] = "output.weight" not in file.tensors
    config |= _from_tensors(file, family, metadata, prefix) | _scaling(metadata, prefix) | _kinds(config)
    spec = _with_rope(spec_from_config(config, where), file, metadata, prefix)
    for name, value in _said_again(spec).items():
        metadata.fixed(f"{prefix}.{name}", value)
    metadata.finish(_INERT)
    return spec


def read_gguf(path: Path) -> tuple[ModelSpec, Iterator[tuple[str, Packed | Tensor]]]:
    """Return the spec and our named weights one by one: matrices in their blocks, anything else in float32."""
    file = GgufFile(path)
    spec = spec_of(file)
    return spec, weights_of(file, spec)


def weights_of(file: GgufFile, spec: ModelSpec) -> Iterator[tuple[str, Packed | Tensor]]:
    """Yield our named weights; raises InputError for a tensor that is missing, and for one that the family has not."""
    family, shapes = family_of(file), parameter_shapes(spec)
    wanted = file_names(list(shapes), family.modules)
    foreign = sorted(set(file.tensors) - {*wanted, *_FACTORS, "rope_factors_long.weight"})
    if foreign:
        todo = "choose a base of a known family"
        raise InputError(file.path, "tensors", "those of the metadata alone", foreign[0], todo)
    for theirs, ours in wanted.items():
        if theirs not in file.tensors:
            raise InputError(file.path, f"tensor {theirs}", "a tensor of that name", None, _TODO)
        if len(file.tensors[theirs].shape) == 2:
            whole = _packed(file, file.tensors[theirs])
            ends = list(itertools.accumulate((shapes[name][0] for name in ours), initial=0))
            for name, (start, end) in zip(ours, itertools.pairwise(ends), strict=True):
                rows = torch.arange(start, min(end, whole.n_rows)) if len(ours) > 1 else torch.arange(whole.n_rows)
                yield name, whole.picked(as_ours(name, rows, spec, family))
        else:
            for name, part in zip(ours, _parts(_expanded(file, theirs), ours, shapes), strict=True):
                yield name, as_ours(name, part, spec, family)


def _packed(file: GgufFile, tensor: GgufTensor) -> Packed:
    data = torch.from_numpy(np.array(file.blocks(tensor)))
    return Packed(data.view(tensor.shape[0], -1), tensor.type_id, tensor.shape[1])


def _kinds(config: dict[str, Any]) -> dict[str, Any]:
    """Return the kind of each layer, where the metadata say of each whether it has a window."""
    found = config.get("sliding_window_pattern")
    if not isinstance(found, list):
        return {}
    del config["sliding_window_pattern"]
    return {"layer_types": ["sliding_attention" if one else "full_attention" for one in found]}


def _said_again(spec: ModelSpec) -> dict[str, Any]:
    """Return what metadata may say besides, where the rest says it already."""
    return {
        "attention.head_count_kv": spec.n_kv_heads,
        "attention.value_length": spec.head_dim,
        "attention.causal": True,
        "embedding_length_out": spec.d_model,
    }


def _from_tensors(file: GgufFile, family: GgufFamily, metadata: Config, prefix: str) -> dict[str, Any]:
    """Return the config values that the presence or count of tensors tells."""
    has_bias = "blk.0.attn_q.bias" in file.tensors
    if family.model_type == "stablelm":
        return {"use_qkv_bias": has_bias}
    found = {"attention_bias": True} if has_bias and family.model_type != "qwen2" else {}
    if metadata.whole(f"{prefix}.block_count") != _SCALED_BY_WIDTH.get(family.model_type):
        return found
    width = metadata.whole(f"{prefix}.embedding_length") / metadata.whole(f"{prefix}.attention.head_count")
    return found | {"query_pre_attn_scalar": width}


def _scaling(metadata: Config, prefix: str) -> dict[str, Any]:
    at = f"{prefix}.rope.scaling."
    factor = metadata.get(f"{at}factor")
    kind = metadata.get(f"{at}type", "linear" if factor else "none")
    if kind in ("none", "longrope"):  # the latter's factors are tensors
        return {}
    found = {"rope_type": kind, "factor": 1.0 if factor is None else factor}
    if kind == "yarn":
        more = {key: metadata.get(at + name) for key, name in _YARN.items()}
        found |= {key: value for key, value in more.items() if value is not None}
    return {"rope_scaling": found}


def _with_rope(spec: ModelSpec, file: GgufFile, metadata: Config, prefix: str) -> ModelSpec:
    """Return the spec with as many turned dims as the file says, and the stretching that a tensor holds."""
    if spec.rope is None:
        return spec
    key = f"{prefix}.rope.dimension_count"
    n_dims = metadata.whole(key, spec.rope.n_dims)
    if n_dims % 2 or n_dims > spec.head_dim:
        raise InputError(file.path, key, f"an even number up to {spec.head_dim}", n_dims, _TODO)
    rope = dataclasses.replace(spec.rope, n_dims=n_dims)
    if spec.local_rope:
        spec = dataclasses.replace(spec, local_rope=dataclasses.replace(spec.local_rope, n_dims=n_dims))
    name = next((n for n in _FACTORS if n in file.tensors), None)
    factor = f"{prefix}.rope.scaling.attn_factor"
    if name is None:
        metadata.fixed(factor, 1.0)
        return dataclasses.replace(spec, rope=rope)
    factors = tuple(_expanded(file, name).flatten().tolist())
    if len(factors) != n_dims // 2:
        raise InputError(file.path, f"tensor {name}", f"{n_dims // 2} factors", len(factors), _TODO)
    gain = metadata.positive(factor, 1.0)
    rope = dataclasses.replace(rope, scaling="longrope", factors=factors, gain=gain)
    original = metadata.whole(f"{prefix}.rope.scaling.original_context_length", spec.max_positions)
    n_most = spec.max_positions if name == "rope_freqs.weight" else min(spec.max_positions, original)
    return dataclasses.replace(spec, rope=rope, max_positions=n_most)


def _expanded(file: GgufFile, name: str) -> Tensor:
    tensor = file.tensors[name]
    return torch.from_numpy(expand_blocks(file.blocks(tensor), tensor.type_id, tensor.shape))


def _parts(value: Tensor, ours: list[str], shapes: Shapes) -> list[Tensor]:
    sizes = [shapes[name][0] for name in ours]
    return list(torch.split(value, sizes)) if len(ours) > 1 and value.shape[0] == sum(sizes) else [value] * len(ours)


def as_ours(name: str, value: Tensor, spec: ModelSpec, family: GgufFamily) -> Tensor:
    """Return a weight, or the numbers of its rows, in our order of rows; norms without the 1 that the file adds."""
    if family.permuted and ".attention.query." in name:
        return _half_rotated(value, spec.n_heads)
    if family.permuted and ".attention.key." in name:
        return _half_rotated(value, spec.n_kv_heads)
    return value - 1 if family.offset and "norm." in name else value


def _half_rotated(weight: Tensor, n_heads: int) -> Tensor:
    """Reorder rows or their numbers (n_heads * head_dim, …) from pairs (2i, 2i + 1) to halves (i, i + head_dim / 2)."""
    if weight.shape[0] % (2 * n_heads):
        return weight  # not of this spec, as is found when shapes are compared
    pairs = weight.reshape(n_heads, weight.shape[0] // n_heads // 2, 2, *weight.shape[1:])
    return pairs.transpose(1, 2).flatten(0, 2).contiguous()
