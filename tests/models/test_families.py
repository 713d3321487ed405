"""Every family against a derivation of its own, from folders and GGUF files; and the way back, bit for bit."""

from __future__ import annotations

import copy
import functools
import importlib.util
import itertools
import json
import tempfile
from pathlib import Path
from typing import Any

import gguf
import numpy as np
import pytest
import safetensors.torch
import torch
from hypothesis import given, settings
from hypothesis import strategies as st

from foldkit.adapters import AdapterSettings, attach
from foldkit.formats import GgufFile, InputError
from foldkit.models import Cache, Decoder, generate, open_base, pack, pad, token_losses
from foldkit.models.families import FAMILIES, spec_from_config
from foldkit.models.generating import Reading, generate_after
from foldkit.models.gguf import spec_of
from foldkit.models.gguf import weights_of as gguf_weights
from foldkit.models.gguf_families import COMMON, GGUF_FAMILIES
from foldkit.models.gguf_saving import save_gguf
from foldkit.models.quick import QuickLayer, quick_layers
from foldkit.models.quick_training import TrainingLayer, training_layers
from foldkit.models.weights import file_names, parameter_shapes, to_theirs

from .family_cases import CONFIGS, config_of
from .family_oracle import ORACLES

CPU = torch.device("cpu")
IDS = [5, 9, 31, 7, 44, 2, 18, 31, 9, 40, 3]


def drawn(config: dict[str, Any]) -> dict[str, torch.Tensor]:
    """Draw the tensors of a folder of this config, large enough that every part matters."""
    torch.manual_seed(7)
    weights = {}
    for name, shape in parameter_shapes(spec_from_config(config, "here")).items():
        value = torch.randn(shape, dtype=torch.float64) * (0.3 if len(shape) == 2 else 0.4)
        weights[name] = value + 1 if len(shape) == 1 and name.endswith("weight") else value
    return to_theirs(weights, spec_from_config(config, "here"))


def write_folder(folder: Path, config: dict[str, Any], tensors: dict[str, torch.Tensor]) -> Path:
    folder.mkdir(parents=True)
    (folder / "config.json").write_text(json.dumps(config))
    safetensors.torch.save_file(tensors, folder / "model.safetensors")
    return folder


def streams_of(decoder: Decoder) -> tuple[list[np.ndarray], np.ndarray]:
    """Return the residual stream after every layer, and the logits."""
    decoder.requires_grad_(requires_grad=False)
    seen: list[np.ndarray] = []
    hooks = [layer.register_forward_hook(lambda _, __, out: seen.append(out.numpy())) for layer in decoder.layers]
    logits = decoder.logits(decoder(torch.tensor([IDS])))[0].numpy()
    for hook in hooks:
        hook.remove()
    return seen, logits


@pytest.mark.parametrize("case", CONFIGS)
def test_a_family_is_what_its_definition_says(tmp_path: Path, case: str) -> None:
    """Every layer's output and the logits, in float64 to 1e-9; and the folder's tensors come back bit for bit.

    An adapter starts as the base.
    """
    config = config_of(case)
    tensors = drawn(config)
    decoder = open_base(write_folder(tmp_path / "b", config, tensors), torch.float64).decoder
    ours, logits = streams_of(decoder)
    expected, expected_logits = ORACLES[config["model_type"]](config, {n: t.numpy() for n, t in tensors.items()}, IDS)
    for found, wanted in zip([*ours, logits], [*expected, expected_logits], strict=True):
        np.testing.assert_allclose(found, wanted, rtol=1e-9, atol=1e-9)
    back = to_theirs(dict(decoder.named_parameters()), decoder.spec)
    assert {name: value.shape for name, value in back.items()} == {n: t.shape for n, t in tensors.items()}
    assert all(torch.equal(back[name], value) for name, value in tensors.items())
    attach(decoder, AdapterSettings(rank=2))
    np.testing.assert_array_equal(streams_of(decoder)[1], logits)


@pytest.mark.parametrize("case", ["llama, llama3", "phi3", "gpt_neox", "gemma3_text"])
def test_the_newer_form_of_rotary_keys_says_the_same(case: str) -> None:
    """All in one table, or in one for each kind of layers."""
    config = config_of(case)
    moved = {key: config.pop(key) for key in ("rope_theta", "rope_scaling") if key in config}
    base = config.pop("rotary_emb_base", None) or moved.get("rope_theta")
    table = {"rope_type": "default", "rope_theta": base, **moved.get("rope_scaling", {})}
    if "rotary_pct" in config:
        table["partial_rotary_factor"] = config.pop("rotary_pct")
    if case == "gemma3_text":
        local = {"rope_type": "default", "rope_theta": config.pop("rope_local_base_freq")}
        table = {"full_attention": table, "sliding_attention": local}
    newer = {**config, "rope_parameters": table, "dtype": "float64", "weights_fixed": True}
    assert spec_from_config(newer, "here") == spec_from_config(config_of(case), "here")


@pytest.mark.parametrize(
    ("case", "more"),
    [
        ("llama", {"do_sample": True, "temperature": 0.6, "top_p": 0.9, "max_length": 20, "repetition_penalty": 1.1}),
        ("gemma2", {"sliding_window_size": 4}),
        ("phi3", {"full_attn_mod": 1, "interpolate_factor": 1, "lm_head_bias": False}),
        ("stablelm", {"rope_pct": 0.5, "norm_eps": 1e-5, "rotary_scaling_factor": 1.0}),
        ("smollm3", {"use_sliding_window": False, "sliding_window": None, "max_window_layers": 28}),
        ("olmo2", {"sliding_window": 0}),
    ],
)
def test_keys_that_say_the_same_again_change_nothing(case: str, more: dict[str, Any]) -> None:
    """As they stand in published files; with another value they are refused, but for how answers are drawn."""
    config = config_of(case)
    assert spec_from_config({**config, **more}, "here") == spec_from_config(config, "here")
    for key in more if case in ("gemma2", "stablelm") else ():
        with pytest.raises(InputError, match=key):
            spec_from_config({**config, **more, key: 0.75}, "here")


@pytest.mark.parametrize("case", ["llama", "gemma3_text"])
@pytest.mark.parametrize(
    ("stem", "head"),
    [
        ("model.language_model.", ""),
        ("language_model.model.", "language_model."),
        ("model.text_model.", ""),
        ("model.", ""),
    ],
)
def test_of_a_base_that_reads_more_than_text_the_part_for_text_is_opened(
    tmp_path: Path, case: str, stem: str, head: str
) -> None:
    """As the base that it would be alone; a layer that its config does not have is refused: the control."""
    config = config_of(case)
    tied = {"tie_word_embeddings": config.pop("tie_word_embeddings")}
    whole = {"model_type": "sees", "vision_config": {"hidden_size": 9}, "text_config": config} | tied
    tensors = drawn(config | tied)
    named = {stem + name.removeprefix("model."): t for name, t in tensors.items() if name.startswith("model.")}
    named |= {head + name: value for name, value in tensors.items() if not name.startswith("model.")}
    named |= {"vision_tower.layers.0.weight": torch.ones(9, 9)}
    opened = open_base(write_folder(tmp_path / "b", whole, named), torch.float64).decoder
    alone = open_base(write_folder(tmp_path / "a", config | tied, tensors), torch.float64).decoder
    assert opened.spec == alone.spec
    np.testing.assert_array_equal(streams_of(opened)[1], streams_of(alone)[1])
    named[f"{stem}layers.9.mlp.up_proj.weight"] = torch.ones(2, 2)
    with pytest.raises(InputError, match=r"layers\.9\.mlp\.up_proj"):
        open_base(write_folder(tmp_path / "c", whole, named))


@pytest.mark.parametrize(
    ("name", "case", "scaling"),
    [
        ("qwen2_vl", "qwen2", {"type": "mrope", "mrope_section": [1, 2, 1]}),
        ("qwen2_5_vl", "qwen2", {"type": "default", "rope_type": "default", "mrope_section": [1, 2, 1]}),
        ("qwen3_vl", "qwen3", {"rope_type": "default", "mrope_interleaved": True, "mrope_section": [1, 1, 1]}),
    ],
)
def test_a_part_for_text_may_be_a_familys_own_by_another_name(name: str, case: str, scaling: dict[str, Any]) -> None:
    """With its keys in a table of their own, in older files beside those of the whole; sections turn alike."""
    config = config_of(case)
    part = {**config, "model_type": f"{name}_text", "rope_scaling": scaling}
    whole = {"model_type": name, "vision_config": {"hidden_size": 9}, "image_token_id": 7}
    expected = spec_from_config(config, "here")
    assert spec_from_config({**whole, "text_config": part}, "here") == expected
    if case == "qwen2":
        assert spec_from_config({**part, **whole}, "here") == expected


def test_what_a_part_for_text_leaves_out_is_what_its_family_has() -> None:
    """By the published config of the smallest of them that reads pictures; alone the same says too little."""
    given = {"hidden_size": 2560, "intermediate_size": 10240, "num_hidden_layers": 34, "sliding_window": 1024}
    part = {"model_type": "gemma3_text", "rope_scaling": {"rope_type": "linear", "factor": 8.0}} | given
    spec = spec_from_config({"model_type": "gemma3", "text_config": part}, "here")
    assert (spec.vocab_size, spec.n_heads, spec.n_kv_heads, spec.head_dim) == (262208, 8, 4, 256)
    assert (spec.rope.base, spec.rope.factor, spec.local_rope.base) == (1e6, 8.0, 1e4)  # type: ignore[union-attr]
    assert (spec.tied_head, spec.attention_scale, sum(not window for window in spec.windows)) == (True, 1 / 16, 5)
    with pytest.raises(InputError, match="num_attention_heads"):
        spec_from_config(part, "here")


@functools.cache
def decoder_of(case: str) -> Decoder:
    config = config_of(case)
    with tempfile.TemporaryDirectory() as folder:
        return open_base(write_folder(Path(folder) / "b", config, drawn(config)), torch.float64).decoder


TOKENS = st.integers(0, 49)


@pytest.mark.parametrize("case", CONFIGS)
@settings(max_examples=5, deadline=None, derandomize=True)
@given(
    shared=st.lists(TOKENS, max_size=14),
    rests=st.lists(st.lists(TOKENS, min_size=1, max_size=7), min_size=1, max_size=4),
)
def test_answers_in_any_company_are_those_of_the_logits(case: str, shared: list[int], rests: list[list[int]]) -> None:
    """Prompts of mixed lengths, left-padded, cached, what they share computed once: recomputed whole for each token."""
    decoder, prompts = decoder_of(case), [[*shared, *rest] for rest in rests]
    for prompt, answer in zip(prompts, generate(decoder, prompts, (), 4), strict=True):
        ids = list(prompt)
        for token in answer:
            assert int(decoder.logits(decoder(torch.tensor([ids])))[0, -1].argmax()) == token
            ids.append(token)


# Families whose layers are single nodes, in training as in answering.
FORMED = {"llama", "mistral", "qwen2", "qwen3", "phi3", "granite", "granitemoehybrid", "smollm3"}
FORMED |= {"gemma", "gemma2", "gemma3_text"}


def test_quick_layers_give_what_the_layers_give() -> None:
    """One more token of two rows, in float64 to 1e-9; which families have layers of that form; none with an adapter."""
    found = set()
    for case in CONFIGS:
        decoder = decoder_of(case)
        layers, caches = quick_layers(decoder), [Cache(decoder.spec, 2, 5, torch.float64, CPU) for _ in range(2)]
        with torch.inference_mode():
            for cache in caches:
                decoder(torch.tensor([IDS[:4], IDS[1:5]]), cache=cache)
            own, quick = (
                decoder(torch.tensor([[7], [9]]), positions=torch.full((2, 1), 4), cache=cache, layers=given)
                for cache, given in zip(caches, ((), layers), strict=True)
            )
        torch.testing.assert_close(quick, own, rtol=1e-9, atol=1e-9)
        found |= {decoder.spec.family for layer in layers if isinstance(layer, QuickLayer)}
    assert found == FORMED


@pytest.mark.parametrize("apart", [False, True])
def test_what_is_computed_again_draws_the_same_dropout(apart: bool) -> None:
    """The gradient of layers that were kept; where numbers are drawn anew on the way back it differs: the control."""
    decoder = copy.deepcopy(decoder_of("llama"))
    adapter = attach(decoder, AdapterSettings(rank=2, dropout=0.3))
    for factor in adapter.parameters:
        torch.nn.init.normal_(factor, std=0.1, generator=torch.Generator().manual_seed(1))
    decoder.train()
    found = []
    for decoder.recompute in (False, True):
        torch.manual_seed(2)
        result, drawn = decoder(torch.tensor([IDS])).square().sum(), torch.get_rng_state()
        with pytest.MonkeyPatch.context() as patch:
            if apart:
                patch.setattr("foldkit.models.random_state.restore_random_state", lambda *_: None)
            found.append(torch.autograd.grad(result, adapter.parameters))
        assert apart or torch.equal(torch.get_rng_state(), drawn)
    distance = max(float((a - b).norm() / b.norm()) for b, a in zip(*found, strict=True))
    assert distance > 1e-2 if apart else distance < 1e-12


@pytest.mark.parametrize(
    ("changes", "few_keys"),
    [
        ({}, 256),
        ({}, 10),
        ({"names": ("query", "up", "out")}, 0),
        ({"start": "singular"}, 256),
        ({"last_layers": 1}, 10),
        ({"dropout": 0.3}, 10),
    ],
)
def test_training_layers_have_the_gradients_of_the_layers(
    changes: dict[str, Any], few_keys: int, monkeypatch: pytest.MonkeyPatch
) -> None:
    """Packed examples that begin alike, with a pair on all maps or some: loss and gradients in float64 to 1e-9.

    With the same numbers dropped, which are drawn alike.

    With attention of few keys, of many and of both; layers kept, or computed again. Which families have layers of that
    form. With a pair that is not the one that is trained they differ: the control.
    """
    monkeypatch.setattr("foldkit.models.decoder.FEW_KEYS", few_keys)
    heading, rests = tuple(IDS[:9]), [(7, 1, 30), (4, 9), (9, 31, 7, 2), (5, 1, 30, 8), (6, 3, 30, 8, 2)]
    batch = pack([heading + rest for rest in rests], [[False] * 10 + [True] * (len(rest) - 1) for rest in rests])
    found = set()
    for case in CONFIGS:
        decoder = copy.deepcopy(decoder_of(case))
        decoder.join(torch.float64)
        adapter = attach(decoder, AdapterSettings(rank=2, **changes))
        for factor in adapter.parameters:
            torch.nn.init.normal_(factor, std=0.1)
        if not any(isinstance(layer, TrainingLayer) for layer in training_layers(decoder.train())):
            continue
        found.add(decoder.spec.family)
        given = {"pieces": batch.pieces, "wanted": batch.before}
        results = []
        for decoder.recompute, quick in itertools.product((False, True), (False, True)):
            torch.manual_seed(8)
            results += [decoder(batch.ids, **given, layers=training_layers(decoder) if quick else ()).square().sum()]
        decoder.recompute = False
        own, *others = (torch.autograd.grad(result, adapter.parameters) for result in results)
        for result, gradient in zip(results[1:], others, strict=True):
            torch.testing.assert_close(result, results[0], rtol=1e-9, atol=1e-9)
            torch.testing.assert_close(gradient, own, rtol=1e-9, atol=1e-9)
        adapter.parameters[-1].data.add_(0.1)
        torch.manual_seed(8)
        other = decoder(batch.ids, **given, layers=training_layers(decoder)).square().sum()
        assert (other - results[0]).abs() > 1e-6
    assert found == FORMED


@pytest.mark.parametrize("case", CONFIGS)
def test_replies_after_read_prompts_have_the_losses_of_the_whole(case: str) -> None:
    """Mixed lengths, in float64 to 1e-9, twice over; what is answered after that is what is answered at once.

    With another prompt the losses differ: the control.
    """
    decoder = decoder_of(case)
    prompts, replies = [IDS[:6], IDS[2:4], IDS[1:9]], [(7, 1), (4,), (9, 31, 7, 2)]
    whole = pad(
        [[*p, *r] for p, r in zip(prompts, replies, strict=True)],
        [[False] * len(p) + [True] * len(r) for p, r in zip(prompts, replies, strict=True)],
    )
    expected, right = token_losses(decoder, whole)
    reading = Reading(decoder, prompts, 4)
    for some in (replies, replies):
        found, hits = reading.losses(some)
        assert hits == right
        for ours, theirs in zip(found, expected, strict=True):
            assert ours == pytest.approx(theirs, rel=1e-9)
    assert generate_after(reading, (), 4) == generate(decoder, prompts, (), 4)
    other = Reading(decoder, prompts[::-1], 4).losses(replies)[0]
    assert other[0] != pytest.approx(expected[0], rel=1e-3)


def test_tall_matrices_stand_by_columns_unless_they_are_only_looked_up_in() -> None:
    """A tied table and a head; not the positions, nor a table that has a head beside it."""
    learned, apart = decoder_of("gpt2"), decoder_of("gpt_neox")
    assert learned.positions is not None
    assert apart.head is not None
    assert (learned.embedding.weight.stride(0), apart.head.weight.stride(0)) == (1, 1)
    assert (learned.positions.weight.stride(1), apart.embedding.weight.stride(1)) == (1, 1)
    assert learned.positions.weight.stride(0) > 1


@pytest.mark.parametrize("case", ["llama", "qwen3", "gemma3_text"])
@pytest.mark.parametrize("changes", [{"names": ("query", "up", "out")}, {"start": "singular"}, {"magnitude": True}])
def test_quick_layers_have_the_adapter_as_it_stands(case: str, changes: dict[str, Any]) -> None:
    """On some maps or all, with a frozen pair too: 1e-9, switched on and off; the magnitude form keeps its layers."""
    decoder = copy.deepcopy(decoder_of(case))
    decoder.join(torch.float64)
    adapter = attach(decoder, AdapterSettings(rank=2, **changes))
    for factor in adapter.parameters:
        torch.nn.init.normal_(factor, 1.0)
    found = []
    for on in (True, False):
        adapter.switch(on=on)
        for layers in ((), quick_layers(decoder)):
            cache = Cache(decoder.spec, 1, 5, torch.float64, CPU)
            with torch.inference_mode():
                decoder(torch.tensor([IDS[:4]]), cache=cache)
                place = torch.tensor([[4]])
                found.append(decoder(torch.tensor([[7]]), positions=place, cache=cache, layers=layers))
            assert all(isinstance(one, QuickLayer) for one in layers) or (on and "magnitude" in changes)
    torch.testing.assert_close(found[1], found[0], rtol=1e-9, atol=1e-9)
    torch.testing.assert_close(found[3], found[2], rtol=1e-9, atol=1e-9)
    assert (found[0] - found[2]).abs().max() > 1e-3


def test_the_registries_are_whole() -> None:
    """Every family has a case and a derivation of its own, and every GGUF architecture a family."""
    assert {case.split(",")[0] for case in CONFIGS} == set(FAMILIES) == set(ORACLES)
    assert {family.model_type for family in GGUF_FAMILIES.values()} <= set(FAMILIES)


GGUF_CASES = {
    "llama": "llama",
    "llama, llama3": "llama",
    "qwen2": "qwen2vl",
    "qwen3": "qwen3",
    "gemma": "gemma",
    "gemma2": "gemma2",
    "gemma3_text": "gemma3",
    "phi3": "phi3",
    "granite": "granite",
    "olmo2": "olmo2",
    "olmo3": "olmo2",
    "llama, yarn": "llama",
    "stablelm": "stablelm",
    "gpt2": "gpt2",
    "gpt_neox": "gptneox",
    "smollm3": "smollm3",
}


def write_gguf(path: Path, config: dict[str, Any], decoder: Decoder, architecture: str) -> None:
    """Write a decoder as the format has it, by the format's own package."""
    family, spec = GGUF_FAMILIES[architecture], decoder.spec
    writer = gguf.GGUFWriter(path, architecture)
    for key, name in {**COMMON, **family.keys}.items():
        value = {"head_dim": spec.head_dim, "n_inner": spec.d_ff}.get(key, config.get(key))
        if name is not None and value is not None:
            add = {bool: writer.add_bool, int: writer.add_uint32, float: writer.add_float32}[type(value)]
            add(f"{architecture}.{name}", value)
    if spec.rope and spec.rope.n_dims != spec.head_dim:
        writer.add_uint32(f"{architecture}.rope.dimension_count", spec.rope.n_dims)
    if spec.rope and spec.rope.scaling in ("linear", "yarn"):
        writer.add_string(f"{architecture}.rope.scaling.type", spec.rope.scaling)
        writer.add_float32(f"{architecture}.rope.scaling.factor", spec.rope.factor)
    if spec.rope and spec.rope.scaling == "yarn":
        writer.add_uint32(f"{architecture}.rope.scaling.original_context_length", spec.rope.original)
        writer.add_float32(f"{architecture}.rope.scaling.yarn_attn_factor", spec.rope.gain)
    if config["model_type"] == "olmo3":
        writer.add_array(f"{architecture}.attention.sliding_window_pattern", [bool(one) for one in spec.windows])
    if spec.rope and spec.rope.scaling in ("llama3", "longrope"):
        steps = torch.arange(0, spec.rope.n_dims, 2, dtype=torch.float64) / spec.rope.n_dims
        factors = (spec.rope.base**-steps / spec.rope.frequencies()).float().numpy()
        name = "rope_freqs.weight" if spec.rope.scaling == "llama3" else "rope_factors_short.weight"
        writer.add_tensor(name, factors)
        writer.add_float32(f"{architecture}.rope.scaling.attn_factor", spec.rope.gain)
        writer.add_uint32(f"{architecture}.rope.scaling.original_context_length", spec.rope.original)
    weights = {name: value.detach().float() for name, value in decoder.named_parameters()}
    for theirs, ours in file_names(list(weights), family.modules).items():
        value = torch.cat([weights[name] for name in ours])
        if family.permuted and (".query." in ours[0] or ".key." in ours[0]):
            heads = spec.n_heads if ".query." in ours[0] else spec.n_kv_heads
            value = value.reshape(heads, 2, spec.head_dim // 2, -1).transpose(1, 2).reshape(value.shape)
        writer.add_tensor(theirs, (value + 1 if family.offset and "norm." in ours[0] else value).numpy())
    writer.write_header_to_file()
    writer.write_kv_data_to_file()
    writer.write_tensors_to_file()
    writer.close()


@pytest.mark.parametrize("case", GGUF_CASES)
def test_a_gguf_file_is_the_same_base(tmp_path: Path, case: str) -> None:
    """The same weights from a folder and from a GGUF file: logits to float32's rounding of weights and metadata."""
    config = config_of(case)
    if case == "gemma3_text":  # the format takes these for granted
        config |= {"sliding_window_pattern": 6, "rope_local_base_freq": 10000.0, "num_hidden_layers": 7}
    if case == "gpt_neox":
        config["rotary_emb_base"] = 10000.0
    for key in ("query_pre_attn_scalar", "use_sliding_window", "no_rope_layers"):
        config.pop(key, None)
    decoder = open_base(write_folder(tmp_path / "b", config, drawn(config)), torch.float64).decoder
    write_gguf(tmp_path / "b.gguf", config, decoder, GGUF_CASES[case])
    found = open_base(tmp_path / "b.gguf", torch.float64).decoder
    assert found.spec.family == GGUF_FAMILIES[GGUF_CASES[case]].model_type
    scale = float(np.abs(streams_of(decoder)[1]).max())
    np.testing.assert_allclose(streams_of(found)[1] / scale, streams_of(decoder)[1] / scale, atol=1e-5)
    stored = open_base(tmp_path / "b.gguf", weights="stored").decoder
    save_gguf(stored, tmp_path / "b.gguf", tmp_path / "back.gguf")
    assert (tmp_path / "back.gguf").read_bytes() == (tmp_path / "b.gguf").read_bytes()
    with torch.no_grad():
        stored.norm.weight[0] += 1
    save_gguf(stored, tmp_path / "b.gguf", tmp_path / "back.gguf")
    assert (tmp_path / "back.gguf").read_bytes() != (tmp_path / "b.gguf").read_bytes()


@pytest.mark.parametrize(
    ("case", "change"),
    [
        ("mistral", {"sliding_window": 5}),
        ("gemma2", {"attn_logit_softcapping": 6.0}),
        ("granite", {"residual_multiplier": 0.5}),
        ("gpt_neox", {"use_parallel_residual": False}),
        ("llama, yarn", {"rope_scaling": None}),
    ],
)
def test_another_config_is_another_decoder(tmp_path: Path, case: str, change: dict[str, Any]) -> None:
    """Known-bad control: the same tensors under a config changed in one key no longer agree with the derivation."""
    config = config_of(case)
    tensors = drawn(config)
    decoder = open_base(write_folder(tmp_path / "b", config | change, tensors), torch.float64).decoder
    arrays = {name: value.numpy() for name, value in tensors.items()}
    _, expected = ORACLES[config["model_type"]](config, arrays, IDS)
    assert np.abs(streams_of(decoder)[1] - expected).max() > 1e-4


# What metadata say besides that changes nothing.
SAID = {"attention.causal": True, "rope.scaling.finetuned": True, "expert_count": 0, "rope.dimension_sections": [1, 2]}


@pytest.mark.parametrize("case", ["llama, llama3", "gemma3_text", "gpt2", "phi3"])
def test_any_value_in_the_metadata_is_served_or_refused(tmp_path: Path, case: str) -> None:
    """Never another error than one that names the file; so with a tensor, or a key, that it has not."""
    config, refused = config_of(case), 0
    decoder = open_base(write_folder(tmp_path / "b", config, drawn(config))).decoder
    write_gguf(tmp_path / "b.gguf", config, decoder, GGUF_CASES[case])
    file = GgufFile(tmp_path / "b.gguf")
    prefix, whole = GGUF_CASES[case], dict(file.metadata)
    extra = [f"{prefix}.rope.{key}" for key in ("dimension_count", "scaling.type", "scaling.attn_factor")]
    for key in [*whole, *extra, f"{prefix}.rope.scaling.original_context_length"]:
        for value in ("x", -1, 0, 3, [], [1, 2], True, float("nan"), 2**40):
            file.metadata = whole | {key: value}
            try:
                spec_of(file)
            except InputError as error:
                refused += 1
                assert "b.gguf" in str(error)
    assert refused > 50
    strange = {"rope.scaling.yarn_log_multiplier": 0.1, "attention.scale": 0.5, "attention.causal": False}
    for name, value in (strange | {"attention.value_length": 7, "rope.scaling.attn_factor": float("nan")}).items():
        file.metadata = whole | {f"{prefix}.{name}": value}
        with pytest.raises(InputError, match=name):
            spec_of(file)
    file.metadata = whole | {f"{prefix}.{name}": value for name, value in SAID.items()}
    file.tensors["blk.0.strange.weight"] = file.tensors["token_embd.weight"]
    with pytest.raises(InputError, match=r"blk\.0\.strange"):
        list(gguf_weights(file, spec_of(file)))


def test_the_page_of_families_is_the_one_the_tables_give() -> None:
    """Generated, so that it cannot say more than the code does."""
    root = Path(__file__).parents[2]
    tool = importlib.util.spec_from_file_location("write_families", root / "tools" / "write_families.py")
    assert tool is not None
    assert tool.loader is not None
    module = importlib.util.module_from_spec(tool)
    tool.loader.exec_module(module)
    assert (root / "docs" / "families.md").read_text(encoding="utf-8") == module.page()
