"""A base in a folder: `config.json`, `tokenizer.json` and one or many `*.safetensors`."""

from __future__ import annotations

import json
from pathlib import Path

import safetensors
import safetensors.torch
import torch
from torch import Tensor

from foldkit.formats.atomic import write_aside
from foldkit.formats.errors import InputError

from .decoder import Decoder
from .spec import ModelSpec, config_from_spec, spec_from_config

_LAYER_NAMES = {
    "attention_norm": "input_layernorm",
    "attention.query": "self_attn.q_proj",
    "attention.key": "self_attn.k_proj",
    "attention.value": "self_attn.v_proj",
    "attention.out": "self_attn.o_proj",
    "mlp_norm": "post_attention_layernorm",
    "mlp.gate": "mlp.gate_proj",
    "mlp.up": "mlp.up_proj",
    "mlp.down": "mlp.down_proj",
}


def file_names(spec: ModelSpec) -> dict[str, str]:
    """Return our parameter names with the names that the format gives them."""
    names = {"embedding.weight": "model.embed_tokens.weight", "norm.weight": "model.norm.weight"}
    for layer in range(spec.n_layers):
        for ours, theirs in _LAYER_NAMES.items():
            names[f"layers.{layer}.{ours}.weight"] = f"model.layers.{layer}.{theirs}.weight"
    if not spec.tied_head:
        names["head.weight"] = "lm_head.weight"
    return names


def read_config(folder: Path) -> dict[str, object]:
    """Return the mapping in `config.json`; raises InputError when it is missing or not JSON."""
    path = folder / "config.json"
    try:
        config = json.loads(path.read_text(encoding="utf-8"))
    except FileNotFoundError:
        raise InputError(
            path, "file", "a config.json in the base's folder", None, "check the path of the base"
        ) from None
    except (ValueError, OSError) as error:
        raise InputError(path, "file", "a JSON object", str(error), "fetch the file again") from None
    if not isinstance(config, dict):
        raise InputError(path, "file", "a JSON object", type(config).__name__, "fetch the file again")
    return config


def read_folder(folder: Path) -> tuple[ModelSpec, dict[str, Tensor]]:
    """Return the spec and our named weights, in the dtype that the files hold."""
    spec = spec_from_config(read_config(folder), str(folder / "config.json"))
    wanted = {theirs: ours for ours, theirs in file_names(spec).items()}
    weights: dict[str, Tensor] = {}
    for path in sorted(folder.glob("*.safetensors")):
        try:
            with safetensors.safe_open(path, framework="pt") as file:
                for name in file.keys():  # noqa: SIM118  (not a mapping)
                    if name in wanted:
                        weights[wanted[name]] = file.get_tensor(name)
        except (safetensors.SafetensorError, OSError) as error:
            raise InputError(path, "file", "a safetensors file", str(error), "fetch the file again") from None
    missing = sorted(set(wanted.values()) - set(weights))
    if missing:
        what = f"{len(missing)} weights missing, first {missing[0]}"
        raise InputError(folder, "*.safetensors", "all weights of the config", what, "fetch the missing files")
    return spec, weights


def save_folder(decoder: Decoder, folder: Path, end_id: int) -> None:
    """Write `config.json` and `model.safetensors` in float16."""
    names = file_names(decoder.spec)
    tensors = {names[ours]: value.detach().to(torch.float16).contiguous() for ours, value in decoder.named_parameters()}
    write_aside(folder / "model.safetensors", safetensors.torch.save(tensors, {"format": "pt"}))
    write_aside(folder / "config.json", json.dumps(config_from_spec(decoder.spec, end_id), indent=2) + "\n")
