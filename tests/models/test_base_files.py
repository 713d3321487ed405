"""Bases on disk: a folder and a GGUF file of the same weights are the same base; damaged ones are refused."""

from __future__ import annotations

import gc
import json
import shutil
import weakref
from pathlib import Path
from typing import Any

import gguf
import numpy as np
import pytest
import safetensors.torch
import torch

from foldkit.formats import InputError
from foldkit.models import Decoder, fingerprint_base, open_base
from foldkit.models.families import spec_from_config
from foldkit.models.folder import read_folder
from foldkit.models.gguf_families import GGUF_FAMILIES
from foldkit.models.weights import file_names

from ..conftest import tiny_decoder, write_base
from .family_cases import CONFIGS, config_of

IDS = torch.tensor([[5, 9, 200, 31, 7]])

POINTER = "version https://git-lfs.github.com/spec/v1\noid sha256:4d7a\nsize 12345\n"


def logits(decoder: Decoder) -> torch.Tensor:
    return decoder.logits(decoder(IDS))


def write_gguf(path: Path, decoder: Decoder, kind: gguf.GGMLQuantizationType | None = None) -> Path:
    """Write a decoder as a GGUF file, query and key rows interleaved as the format has them; matrices of a `kind`."""
    spec = decoder.spec
    writer = gguf.GGUFWriter(path, "llama")
    writer.add_block_count(spec.n_layers)
    writer.add_context_length(spec.max_positions)
    writer.add_embedding_length(spec.d_model)
    writer.add_feed_forward_length(spec.d_ff)
    writer.add_head_count(spec.n_heads)
    writer.add_head_count_kv(spec.n_kv_heads)
    writer.add_key_length(spec.head_dim)
    writer.add_layer_norm_rms_eps(spec.norm_eps)
    assert spec.rope is not None
    writer.add_rope_freq_base(spec.rope.base)
    weights = decoder.state_dict()
    for theirs, (ours,) in file_names(list(weights), GGUF_FAMILIES["llama"].modules).items():
        value = weights[ours].float().numpy()
        if ours.endswith(("query.weight", "key.weight")):
            halves = value.reshape(-1, 2, spec.head_dim // 2, spec.d_model)
            value = np.stack((halves[:, 0], halves[:, 1]), axis=2).reshape(value.shape)
        if kind is not None and value.ndim == 2 and value.shape[1] % 32 == 0:
            writer.add_tensor(theirs, gguf.quants.quantize(value, kind), raw_dtype=kind)
        else:
            writer.add_tensor(theirs, np.ascontiguousarray(value))
    writer.write_header_to_file()
    writer.write_kv_data_to_file()
    writer.write_tensors_to_file()
    writer.close()
    return path


def same_weights(first: Decoder, second: Decoder) -> bool:
    """Compare bit for bit, by name."""
    ours, theirs = (dict(decoder.named_parameters()) for decoder in (first, second))
    return ours.keys() == theirs.keys() and all(torch.equal(ours[name], theirs[name]) for name in ours)


def test_a_base_that_nothing_uses_is_let_go_before_the_next(base_folder: Path) -> None:
    """Though its parts refer to one another, and nothing else has collected them."""
    gc.disable()
    try:
        base = open_base(base_folder)
        base.decoder.own_base = base  # type: ignore[assignment]
        seen = weakref.ref(base.decoder)
        del base
        assert seen()
        open_base(base_folder)
        assert not seen()
    finally:
        gc.enable()


@pytest.mark.parametrize("tied_head", [True, False])
def test_gguf_and_decoder_give_the_same_logits(tmp_path: Path, tied_head: bool) -> None:
    """The permuted query and key rows are put back, bit for bit; logits to the rounding of sums in another order."""
    decoder = tiny_decoder(torch.float32, tied_head=tied_head)
    base = open_base(write_gguf(tmp_path / "a.gguf", decoder))
    assert same_weights(base.decoder, decoder)
    torch.testing.assert_close(logits(base.decoder), logits(decoder), rtol=1e-5, atol=1e-5)
    assert not any(weight.requires_grad for weight in base.decoder.parameters())
    assert base.decoder.spec.tied_head is tied_head


def test_a_gguf_of_other_heads_than_it_says_is_refused(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    """By the tensor whose shape tells, though its rows cannot be put into our order; and so is a part of a base."""
    decoder = tiny_decoder()
    spec, add = decoder.spec, gguf.GGUFWriter.add_head_count_kv
    assert spec.n_kv_heads * spec.head_dim % (2 * spec.n_heads)
    monkeypatch.setattr(gguf.GGUFWriter, "add_head_count_kv", lambda writer, _: add(writer, spec.n_heads))
    with pytest.raises(InputError, match=r"key\.weight: expected shape"):
        open_base(write_gguf(tmp_path / "a.gguf", decoder))
    part = lambda writer, n: (add(writer, n), writer.add_uint16("split.count", 3))  # noqa: E731
    monkeypatch.setattr(gguf.GGUFWriter, "add_head_count_kv", part)
    with pytest.raises(InputError, match=r"split.count: expected a base in one file, found 3; join its parts"):
        open_base(write_gguf(tmp_path / "b.gguf", decoder))


def test_a_folder_comes_back_as_it_was_saved(base_folder: Path, tmp_path: Path) -> None:
    """Whole, and divided over two files, with an index too; its fingerprint is of its files and changes with them."""
    expected = tiny_decoder(torch.float32).half().float()
    base = open_base(base_folder)
    assert same_weights(base.decoder, expected)
    divided = tmp_path / "divided"
    shutil.copytree(base_folder, divided)
    tensors = safetensors.torch.load_file(divided / "model.safetensors")
    names = sorted(tensors)
    for index, half in enumerate((names[::2], names[1::2])):
        safetensors.torch.save_file({name: tensors[name] for name in half}, divided / f"part-{index}.safetensors")
    (divided / "model.safetensors").unlink()
    assert same_weights(open_base(divided).decoder, expected)
    assert fingerprint_base(divided) != base.fingerprint == fingerprint_base(base_folder)
    assert read_folder(divided)[0] == base.decoder.spec
    before = fingerprint_base(divided)
    (divided / "whole.safetensors").write_bytes((base_folder / "model.safetensors").read_bytes()[:-1])
    index = divided / "model.safetensors.index.json"
    index.write_text(json.dumps({"weight_map": {name: f"part-{n % 2}.safetensors" for n, name in enumerate(names)}}))
    assert same_weights(open_base(divided).decoder, expected)
    assert fingerprint_base(divided) == before
    for named, said in (
        ("part-9.safetensors", "missing files"),
        ("../b/model.safetensors", "beside it"),
        ("", "beside"),
    ):
        index.write_text(json.dumps({"weight_map": {"head": named}}))
        with pytest.raises(InputError, match=said):
            open_base(divided)
    index.write_text("{}")
    with pytest.raises(InputError, match=r"weight_map.*fetch the file again"):
        open_base(divided)


@pytest.mark.parametrize(
    ("change", "said"),
    [
        ({"model_type": "lama"}, "did you mean 'llama'"),
        ({"model_type": "sees", "text_config": {"model_type": "reads"}}, "a .gguf file of it has the part for text"),
        ({"model_type": [], "text_config": {"model_type": []}}, "text_config: model_type: expected one of llama"),
        ({"quantization_config": {"bits": 4}}, "quantization_config.* plain floats, or a .gguf file"),
        ({"hidden_act": "relu2"}, "hidden_act"),
        ({"attention_bias": True}, "weights missing, first model.layers.0.self_attn.q_proj.bias"),
        ({"rope_scaling": {"rope_type": "dynamic", "factor": 2.0}}, "rope_type: expected 'none' or"),
        ({"rope_parameters": {"rope_type": "yarn"}}, "factor: expected a positive number"),
        ({"rope_scaling": {"rope_type": "linear", "factor": 2.0, "curve": 3}}, "curve: expected a key"),
        ({"router_aux_loss_coef": 0.1}, "router_aux_loss_coef: expected a key that this family is known by"),
        ({"tie_word_embeddings": 1}, "true or false"),
        ({"hidden_size": "24"}, "hidden_size: expected a whole number"),
        ({"hidden_size": -1}, "hidden_size"),
        ({"rms_norm_eps": float("nan")}, "rms_norm_eps: expected a positive number"),
        ({"num_key_value_heads": 4}, "a divisor of 6"),
        ({"head_dim": 7}, "an even number"),
        ({"intermediate_size": 48}, r"shape \(48, 24\), found \(40, 24\)"),
        ({"num_hidden_layers": 3}, "9 weights missing, first model.layers.2"),
        ({"num_hidden_layers": 1}, "those of the config alone, found 'model.layers.1"),
        ({"num_hidden_layers": None}, "num_hidden_layers"),
        ({"model_type": "granitemoehybrid", "layer_types": ["mamba", "attention"]}, "attention alone, found 'mamba'"),
        ({"model_type": "granitemoehybrid", "num_local_experts": 8}, "num_local_experts: expected 0"),
        ({"model_type": "olmo2", "layer_types": ["sliding_attention"] * 2}, "layer_types: expected a key"),
    ],
)
def test_configs_that_cannot_be_served_are_refused_by_key(
    tmp_path: Path, tokenizer_text: str, change: dict[str, Any], said: str
) -> None:
    """Never ignored."""
    folder = write_base(tmp_path / "b", tokenizer_text)
    config = json.loads((folder / "config.json").read_text())
    (folder / "config.json").write_text(json.dumps(config | change))
    with pytest.raises(InputError, match=said):
        open_base(folder)


def test_missing_and_damaged_files_are_refused(tmp_path: Path, tokenizer_text: str) -> None:
    """No folder, no config, half a weight file, a GGUF without its tensors."""
    with pytest.raises(InputError, match="check the path of the base"):
        open_base(tmp_path / "none")
    folder = write_base(tmp_path / "b", tokenizer_text)
    weights = folder / "model.safetensors"
    weights.write_bytes(weights.read_bytes()[:5000])
    with pytest.raises(InputError, match="a safetensors file"):
        open_base(folder)
    for path, opened in ((weights, folder), (tmp_path / "p.gguf", tmp_path / "p.gguf")):
        path.write_text(POINTER)
        with pytest.raises(InputError, match=r"the file itself, found 'a pointer to it.* git lfs pull"):
            open_base(opened)
    weights.rename(folder / "weights.bin")
    with pytest.raises(InputError, match=r"found 'weights.bin'; fetch .* pickled ones could run code"):
        open_base(folder)
    (folder / "config.json").unlink()
    with pytest.raises(InputError, match=r"a config.json in the base's folder"):
        open_base(folder)
    writer = gguf.GGUFWriter(tmp_path / "e.gguf", "llama")
    writer.write_header_to_file()
    writer.write_kv_data_to_file()
    writer.write_tensors_to_file()
    writer.close()
    with pytest.raises(InputError, match=r"token_embd.weight"):
        open_base(tmp_path / "e.gguf")


TABLES = ({"a": 1}, {"rope_type": []}, {"type": "yarn", "factor": "x"})
ODD = ("x", -1, 0, [], True, None, 1.5, [1], ["x"] * 4, float("nan"), *TABLES)
KEYS = ("rope_parameters", "rope_scaling", "sliding_window", "layer_types", "attention_layers", "head_dim")


@pytest.mark.parametrize("case", CONFIGS)
def test_any_value_of_any_key_is_served_or_refused(case: str) -> None:
    """Never another error; most odd values are refused."""
    config, refused = config_of(case), 0
    for key in {**dict.fromkeys(KEYS), **config}:
        for value in ODD:
            try:
                spec_from_config({**config, key: value}, "here")
            except InputError as error:
                refused += 1
                assert str(error).startswith("here")
    assert refused > 60
