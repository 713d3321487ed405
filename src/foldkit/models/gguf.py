"""A base in one GGUF file: its spec from the metadata, its blocks expanded to float32.

GGUF stores this family's query and key rows in the interleaved order of rotary pairs; they are put back into the
half-rotated order that the decoder uses.
"""

from __future__ import annotations

from pathlib import Path

import torch
from torch import Tensor

from foldkit.formats import GgufFile, GgufTensor, InputError, expand_blocks

from .spec import ModelSpec, spec_from_config

_METADATA = {
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
_LAYER_NAMES = {
    "attention_norm": "attn_norm",
    "attention.query": "attn_q",
    "attention.key": "attn_k",
    "attention.value": "attn_v",
    "attention.out": "attn_output",
    "mlp_norm": "ffn_norm",
    "mlp.gate": "ffn_gate",
    "mlp.up": "ffn_up",
    "mlp.down": "ffn_down",
}


def spec_of(file: GgufFile) -> ModelSpec:
    """Read the spec from the metadata of a file of architecture `llama`."""
    metadata, where = file.metadata, str(file.path)
    family = metadata.get("general.architecture")
    if metadata.get(f"{family}.rope.scaling.type", "none") != "none" or "rope_freqs.weight" in file.tensors:
        kind = metadata.get(f"{family}.rope.scaling.type", "rope_freqs.weight")
        raise InputError(where, "rotary scaling", "none", kind, "choose another base")
    if "token_embd.weight" not in file.tensors:
        raise InputError(where, "tensor token_embd.weight", "an embedding", None, "fetch the file again")
    config = {key: metadata[f"{family}.{name}"] for key, name in _METADATA.items() if f"{family}.{name}" in metadata}
    config["model_type"] = family
    config["vocab_size"] = file.tensors["token_embd.weight"].shape[0]
    config["tie_word_embeddings"] = "output.weight" not in file.tensors
    return spec_from_config(config, where)


def file_names(spec: ModelSpec) -> dict[str, str]:
    """Return our parameter names with the names that the format gives them."""
    names = {"embedding.weight": "token_embd.weight", "norm.weight": "output_norm.weight"}
    for layer in range(spec.n_layers):
        for ours, theirs in _LAYER_NAMES.items():
            names[f"layers.{layer}.{ours}.weight"] = f"blk.{layer}.{theirs}.weight"
    if not spec.tied_head:
        names["head.weight"] = "output.weight"
    return names


def read_gguf(path: Path) -> tuple[ModelSpec, dict[str, Tensor]]:
    """Return the spec and our named weights in float32."""
    file = GgufFile(path)
    spec = spec_of(file)
    weights = {}
    for ours, theirs in file_names(spec).items():
        if theirs not in file.tensors:
            raise InputError(path, f"tensor {theirs}", "a tensor of that name", None, "fetch the file again")
        weights[ours] = _expanded(file, file.tensors[theirs])
        if ours.endswith("attention.query.weight"):
            weights[ours] = _half_rotated(weights[ours], spec.n_heads)
        if ours.endswith("attention.key.weight"):
            weights[ours] = _half_rotated(weights[ours], spec.n_kv_heads)
    return spec, weights


def _expanded(file: GgufFile, tensor: GgufTensor) -> Tensor:
    return torch.from_numpy(expand_blocks(file.blocks(tensor), tensor.type_id, tensor.shape))


def _half_rotated(weight: Tensor, n_heads: int) -> Tensor:
    """Reorder rows (n_heads * head_dim, d_model) from pairs (2i, 2i + 1) to halves (i, i + head_dim / 2)."""
    rows, width = weight.shape
    pairs = weight.reshape(n_heads, rows // n_heads // 2, 2, width)
    return pairs.transpose(1, 2).reshape(rows, width).contiguous()
