"""Low-rank maps: start, arithmetic, reach, switch, files."""

from __future__ import annotations

import dataclasses
import math
from collections.abc import Callable
from pathlib import Path

import numpy as np
import pytest
import torch

from foldkit.adapters import (
    AdapterHeader,
    AdapterSettings,
    LowRankLinear,
    attach,
    begin_with,
    frozen_products,
    load_adapter,
    put_on,
    read_adapter,
    read_header,
    save_adapter,
    summed,
)
from foldkit.adapters.attaching import detach
from foldkit.formats import InputError, UsageError
from foldkit.models import Base, Decoder, chunked_loss, learned_stream, open_base, pad
from foldkit.models.dropout import drawn, scale_of
from foldkit.models.linear import Linear

from ..conftest import assert_even, tiny_decoder, write_base

IDS = torch.tensor([[5, 9, 200, 31, 7]])


def logits(decoder: Decoder) -> torch.Tensor:
    return decoder.logits(decoder(IDS))


def stirred(decoder: Decoder, settings: AdapterSettings):  # type: ignore[no-untyped-def]
    adapter = attach(decoder, settings)
    for factor in adapter.parameters:
        factor.data.normal_(generator=torch.Generator().manual_seed(1))
    return adapter


@pytest.mark.parametrize("dtype", [torch.float64, torch.float32, torch.bfloat16])
def test_at_the_start_the_logits_are_the_bases_own(dtype: torch.dtype) -> None:
    """Exactly, in every dtype; with B stirred they are not: the control; switched off they are again."""
    decoder = tiny_decoder(dtype)
    base = logits(decoder)
    adapter = attach(decoder, AdapterSettings())
    assert torch.equal(logits(decoder), base)
    adapter.parameters[1].data.fill_(0.5)
    assert not torch.equal(logits(decoder), base)
    with adapter.switched(on=False):
        assert torch.equal(logits(decoder), base)
    assert not torch.equal(logits(decoder), base)
    detach(decoder)
    assert torch.equal(logits(decoder), base)


def test_one_map_is_w_plus_scaled_ba() -> None:
    """Against the merged matrix W + scale * B A, in float64 to 1e-12.

    With a frozen pair below, from whose input nothing is dropped: what the same seed drops is dropped for A alone.
    """
    torch.manual_seed(2)
    frozen = Linear(7, 5, bias=False, dtype=torch.float64)
    frozen.weight.data.normal_()
    low = LowRankLinear(frozen, 3, 2.0, 0.0, torch.float64)
    low.factor_a.data.normal_()
    low.factor_b.data.normal_()
    x = torch.randn(4, 2, 7, dtype=torch.float64)
    merged = frozen.weight + 2.0 * low.factor_b @ low.factor_a
    torch.testing.assert_close(low(x), x @ merged.T, rtol=1e-12, atol=1e-13)
    with torch.no_grad():
        torch.testing.assert_close(low(x), x @ merged.T, rtol=1e-12, atol=1e-13)
    below = torch.randn(2, 7, dtype=torch.float64), torch.randn(5, 2, dtype=torch.float64)
    low.add_frozen(*below)
    whole = frozen.weight + below[1] @ below[0]
    torch.testing.assert_close(low(x), x @ (merged + below[1] @ below[0]).T, rtol=1e-12, atol=1e-13)
    low.dropout = 0.5
    torch.manual_seed(3)
    stays = drawn(x, 0.5)
    torch.manual_seed(3)
    expected = x @ whole.T + 4.0 * (x * stays) @ low.factor_a.T @ low.factor_b.T
    torch.testing.assert_close(low.train()(x), expected, rtol=1e-12, atol=1e-13)


@pytest.mark.parametrize("activation", ["", "silu"])
def test_with_dropout_a_map_has_the_gradients_of_its_definition(activation: str) -> None:
    """That is x W' + s / (1 - p) (x ∘ d) A' B' with d as drawn: by PyTorch's own way back, in float64 to 1e-12.

    With a d that was drawn anew they differ: the control.
    """
    torch.manual_seed(4)
    frozen = Linear(7, 5, bias=False, dtype=torch.float64)
    frozen.weight.data.normal_()
    frozen.requires_grad_(False)
    low = LowRankLinear(frozen, 3, 2.0, 0.25, torch.float64).train()
    low.factor_a.data.normal_()
    low.factor_b.data.normal_()
    inputs = [torch.randn(6, 7, dtype=torch.float64, requires_grad=True) for _ in range(2 if activation else 1)]
    wanted = (*inputs, low.factor_a, low.factor_b)
    torch.manual_seed(5)
    found = torch.autograd.grad(
        (low.of_activated(inputs, activation) if activation else low(*inputs)).square().sum(), wanted
    )
    for seed in (5, 6):
        torch.manual_seed(seed)
        x = torch.nn.functional.silu(inputs[0]) * inputs[1] if activation else inputs[0]
        y = x @ frozen.weight.T + 2.0 / 0.75 * (x * drawn(x, 0.25)) @ low.factor_a.T @ low.factor_b.T
        by_torch = torch.autograd.grad(y.square().sum(), wanted)
        distances = [float((a - b).norm() / b.norm()) for a, b in zip(found, by_torch, strict=True)]
        assert max(distances) < 1e-12 if seed == 5 else min(distances) > 1e-2


@pytest.mark.parametrize("dropout", [0.05, 0.3, 0.95])
def test_what_stays_is_drawn_with_its_chance_and_by_itself(dropout: float) -> None:
    """Of 400,000 numbers: the share, those of each column and of pairs of neighbours, to five errors; by the seed.

    What stays is multiplied so that the mean is that of all, to the share that two bytes can say.
    """
    torch.manual_seed(6)
    x = torch.ones(2000, 200)
    stays = drawn(x, dropout)
    assert stays is not None
    assert stays.unique().tolist() == [0, 1]
    free, share = stays.double(), 1 - dropout
    error = math.sqrt(share * dropout)
    assert abs(float(free.mean()) - share) < 5 * error / math.sqrt(x.numel())
    assert float((free.mean(0) - share).abs().max()) < 5 * error / math.sqrt(2000)
    for far in (1, 2, 4, 200):
        flat = free.flatten() - share
        together = float((flat[far:] * flat[:-far]).mean())
        assert abs(together) < 5 * error**2 / math.sqrt(x.numel())
    assert scale_of(dropout) == pytest.approx(1 / share, rel=1e-3)
    assert float(free.mean()) * scale_of(dropout) == pytest.approx(1, abs=5 * error / share / math.sqrt(x.numel()))
    torch.manual_seed(6)
    same = [torch.equal(again, stays) for again in (drawn(x, dropout), drawn(x, dropout)) if again is not None]
    assert same == [True, False]
    assert drawn(x, 0.0) is None
    assert scale_of(0.0) == 1


@pytest.mark.parametrize(("reach", "n_maps"), [("attention", 8), ("mlp", 6), ("all", 14)])
def test_the_reach_says_which_maps(decoder: Decoder, reach: str, n_maps: int) -> None:
    """Counts follow from the shapes; the head and the embedding are never reached."""
    adapter = attach(decoder, AdapterSettings(rank=2, reach=reach))
    assert len(adapter.maps) == n_maps
    shapes = [low.frozen.weight.shape for low in adapter.maps.values()]
    assert adapter.n_parameters == sum(2 * (rows + width) for rows, width in shapes)
    assert all(name.startswith("layers.") for name in adapter.maps)
    trainable = [name for name, weight in decoder.named_parameters() if weight.requires_grad]
    assert all(name.endswith(("factor_a", "factor_b")) for name in trainable)
    assert len(trainable) == 2 * n_maps
    with pytest.raises(ValueError, match="already carries"):
        attach(decoder, AdapterSettings())


def test_dropout_is_for_training_alone(decoder: Decoder) -> None:
    """In training two passes differ; in evaluation they do not."""
    stirred(decoder, AdapterSettings(dropout=0.5))
    assert torch.equal(logits(decoder), logits(decoder))
    decoder.train()
    assert not torch.equal(logits(decoder), logits(decoder))


def test_factors_stay_in_float32_over_16_bits() -> None:
    """And follow a float64 base; lengths of rows are in float32, too, so that step 0 is the base.

    A length that grows by 3 in 1,000, less than a step of 16 bits, is felt as that over many values.
    """
    settings, rounded = AdapterSettings(), tiny_decoder(torch.bfloat16)
    base = logits(rounded)
    attach(rounded, AdapterSettings(magnitude=True))
    assert torch.equal(logits(rounded), base)
    low = next(iter(low for low in rounded.modules() if isinstance(low, LowRankLinear)))
    assert low.magnitude is not None
    x = torch.randn(400, low.in_features).bfloat16()
    before = low(x).detach().double()
    low.magnitude.data *= 1.003
    assert float((low(x).detach() * before).sum() / before.square().sum()) == pytest.approx(1.003, abs=2e-4)
    assert attach(tiny_decoder(torch.bfloat16), settings).parameters[0].dtype == torch.float32
    assert attach(tiny_decoder(torch.float64), settings).parameters[0].dtype == torch.float64


def kept_of(call: Callable[[], torch.Tensor]) -> tuple[torch.Tensor, list[torch.Tensor]]:
    """Return what a call gives, and what is kept for its way back."""
    kept = list[torch.Tensor]()
    with torch.autograd.graph.saved_tensors_hooks(lambda value: (kept.append(value), value)[1], lambda value: value):
        return call(), kept


@pytest.mark.parametrize("n_parts", [1, 2])
@pytest.mark.parametrize("activation", ["silu", "gelu", "gelu tanh"])
def test_what_an_mlp_ends_in_has_the_slope_of_finite_differences(activation: str, n_parts: int) -> None:
    """Adapted and not, the value NumPy's; the parts alone are kept, and made again on the way back."""
    draw = torch.Generator().manual_seed(5)
    frozen = Linear(6, 3, bias=False, dtype=torch.float64)
    frozen.weight.data.normal_(generator=draw)
    frozen.weight.requires_grad_(requires_grad=False)
    low = LowRankLinear(frozen, 2, 2.0, 0.0, torch.float64)
    for factor in (low.factor_a, low.factor_b):
        factor.data.normal_(generator=draw)
    parts = [torch.randn(5, 6, dtype=torch.float64, generator=draw, requires_grad=True) for _ in range(n_parts)]
    first, *up = (part.detach().numpy() for part in parts)
    shares = {
        "silu": lambda x: 1 / (1 + np.exp(-x)),
        "gelu": lambda x: (1 + np.vectorize(math.erf)(x / math.sqrt(2))) / 2,
        "gelu tanh": lambda x: (1 + np.tanh(math.sqrt(2 / math.pi) * (x + 0.044715 * x**3))) / 2,
    }
    hidden = first * shares[activation](first) * (up[0] if up else 1)
    for one, weight in ((frozen, frozen.weight), (low, frozen.weight + 2 * low.factor_b @ low.factor_a)):
        expected = hidden @ weight.detach().numpy().T
        np.testing.assert_allclose(one.of_activated(parts, activation).detach(), expected, rtol=1e-12, atol=1e-13)
        assert torch.autograd.gradcheck(lambda *given, one=one: one.of_activated(given, activation), parts)
    _, kept = kept_of(lambda: low.of_activated(parts, activation))
    assert sum(value.shape == parts[0].shape for value in kept) == n_parts


def test_a_map_over_16_bits_keeps_nothing_wider_and_learns_in_float32() -> None:
    """The gradients of float64 to 1e-5: no product of the pair is rounded to 16 bits; rounded ones are the control."""
    frozen = Linear(48, 32, bias=False, dtype=torch.bfloat16)
    x, to_y = (torch.randn(200, width, generator=torch.Generator().manual_seed(3)).bfloat16() for width in (48, 32))
    frozen.weight.data.normal_()
    frozen.weight.requires_grad_(requires_grad=False)
    low = LowRankLinear(frozen, 4, 2.0, 0.0, torch.float32)
    low.factor_a.data.normal_()
    low.factor_b.data.normal_()
    y, kept = kept_of(lambda: low(x.requires_grad_()))
    assert max(value.numel() * value.element_size() for value in kept) == 2 * x.numel()
    y.backward(to_y)
    a, b, wide_x, wide_y = (value.detach().double() for value in (low.factor_a, low.factor_b, x, to_y))
    expected = 2 * (wide_y @ b).T @ wide_x, 2 * wide_y.T @ (wide_x @ a.T)
    for factor, exact in zip((low.factor_a, low.factor_b), expected, strict=True):
        assert factor.grad is not None
        error = (factor.grad.double() - exact).norm() / exact.norm()
        assert error < 1e-5 < (exact.bfloat16().double() - exact).norm() / exact.norm()
    assert x.grad is not None
    exact_to_x = wide_y @ (frozen.weight.double() + 2 * b @ a)
    assert (x.grad.double() - exact_to_x).norm() / exact_to_x.norm() < 2**-7


@pytest.mark.parametrize(
    ("settings", "n_maps", "ranks"),
    [
        (AdapterSettings(names=("query", "layers.1.mlp.*")), 5, {8}),
        (AdapterSettings(last_layers=1, reach="attention"), 4, {8}),
        (AdapterSettings(ranks={"mlp.*": 3, "layers.0.*": 5}), 14, {3, 5, 8}),
    ],
)
def test_maps_are_chosen_by_name_and_have_ranks_of_their_own(
    decoder: Decoder, settings: AdapterSettings, n_maps: int, ranks: set[int]
) -> None:
    """The first pattern that fits gives the rank."""
    adapter = attach(decoder, settings)
    assert len(adapter.maps) == n_maps
    assert {len(low.factor_a) for low in adapter.maps.values()} == ranks
    if settings.ranks:
        assert len(adapter.maps["layers.0.mlp.up"].factor_a) == 3


@pytest.mark.parametrize(
    ("wrong", "said"),
    [
        (AdapterSettings(names=("query", "qeury")), r"names: .*layers\.0\.attention\.query, found 'qeury'; .*'query'"),
        (AdapterSettings(names=("mlp.*",), reach="attention"), "names: .*; known: key, out, query, value"),
        (AdapterSettings(ranks={"layers.0.*": 4}, last_layers=1), r"ranks: .*such as layers\.1\.attention\.query"),
        (AdapterSettings(ranks={"up": 4}, names=("query",)), "ranks: .*; known: query"),
        (AdapterSettings(last_layers=3), "last_layers: expected 0 to 2, found 3"),
    ],
)
def test_what_fits_no_map_in_reach_is_refused(decoder: Decoder, wrong: AdapterSettings, said: str) -> None:
    """Misspelt, or of a map that the other settings leave out: with a name that would fit, and the near one."""
    with pytest.raises(UsageError, match=said):
        attach(decoder, wrong)


def test_a_plain_start_is_even_within_the_bound_of_its_width() -> None:
    """B is nothing, A even within one over the root of its inputs, by the seed."""
    adapter, again, other = (attach(tiny_decoder(), AdapterSettings(rank=8, seed=seed)) for seed in (5, 5, 6))
    assert_even(torch.cat([(low.factor_a * math.sqrt(low.in_features)).flatten() for low in adapter.maps.values()]))
    assert not any(low.factor_b.any() for low in adapter.maps.values())
    same = [torch.equal(adapter.parameters[0], one.parameters[0]) for one in (again, other)]
    assert same == [True, False]


def test_scaling_by_the_root_of_the_rank() -> None:
    """Alpha over the square root; over the rank otherwise."""
    assert AdapterSettings(alpha=12, scaling="root").scale_of(9) == pytest.approx(4)
    assert AdapterSettings(alpha=12).scale_of(6) == 2


def test_the_singular_start_is_the_leading_part_and_step_0_is_the_base(decoder: Decoder) -> None:
    """What it leaves of each matrix is within 0.1% of the least, by NumPy's decomposition; ours is a randomised one.

    It is drawn by the seed alone. A rank that a matrix has no vectors for is refused.
    """
    base = logits(decoder)
    adapter = attach(decoder, AdapterSettings(rank=3, start="singular"))
    torch.manual_seed(99)
    again = attach(tiny_decoder(), AdapterSettings(rank=3, start="singular"))
    assert all(torch.equal(a, b) for a, b in zip(adapter.parameters, again.parameters, strict=True))
    torch.testing.assert_close(logits(decoder), base, rtol=1e-9, atol=1e-9)
    for low in adapter.maps.values():
        left, values, right = np.linalg.svd(low.weight.numpy())
        expected = left[:, :3] * values[:3] @ right[:3]
        found = (low.scale * low.factor_b @ low.factor_a).detach().numpy()
        weight = low.weight.numpy()
        assert np.linalg.norm(weight - found) < 1.001 * np.linalg.norm(weight - expected)
    adapter.parameters[0].data.add_(0.1)
    assert not torch.allclose(logits(decoder), base)
    most = min(low.in_features, low.out_features)
    with pytest.raises(InputError, match=rf"rank of layers\..*: expected at most its {most} .* found {most + 1}"):
        attach(tiny_decoder(), AdapterSettings(rank=most + 1, start="singular", names=("down",)))


def merged(low: LowRankLinear) -> torch.Tensor:
    return low.weight + low.scale * (low.factor_b @ low.factor_a).detach()


def test_the_magnitude_form_is_a_length_times_a_direction() -> None:
    """Against W' made whole; gradients by autograd with the length held still; kept lengths follow the factors."""
    decoder = tiny_decoder()
    base = logits(decoder)
    adapter = attach(decoder, AdapterSettings(rank=3, magnitude=True))
    assert torch.equal(logits(decoder), base)
    low = adapter.maps["layers.0.mlp.gate"]
    for factor in (low.factor_b, low.magnitude):
        assert factor is not None
        factor.data.add_(torch.randn(factor.shape, generator=torch.Generator().manual_seed(4)).double())
    x = torch.randn(5, 24, dtype=torch.float64, requires_grad=True)
    weight = (low.weight + low.scale * low.factor_b @ low.factor_a).requires_grad_()
    expected = x @ (low.magnitude[:, None] * weight / weight.norm(dim=1, keepdim=True).detach()).T  # type: ignore[index]
    wanted = (x, low.factor_a, low.factor_b, low.magnitude)
    found = [torch.autograd.grad((y * y).sum(), wanted) for y in (expected, low(x))]  # type: ignore[arg-type]
    torch.testing.assert_close(found[1], found[0], rtol=1e-9, atol=1e-12)
    with torch.no_grad():
        torch.testing.assert_close(low.train()(x), expected, rtol=1e-9, atol=1e-12)
        before = low.eval()(x)
        held = {name: tensor.clone() for name, tensor in adapter.tensors().items()}
        low.factor_b.data.mul_(3)
        after = low.eval()(x)
        assert not torch.allclose(after, before)
        adapter.copy_from(held)
        torch.testing.assert_close(low(x), before)


@pytest.mark.parametrize(("tied", "full"), [(True, ("embedding",)), (False, ("embedding", "head"))])
def test_what_is_trained_whole_has_the_slope_of_finite_differences(tied: bool, full: tuple[str, ...]) -> None:
    """Step 0 is the base; along a random direction of the table, both its uses counted; off, the base's own is used."""
    decoder = tiny_decoder(tied_head=tied)
    base = logits(decoder)
    adapter = attach(decoder, AdapterSettings(rank=2, full=full))
    assert torch.equal(logits(decoder), base)
    batch = pad([IDS[0].tolist()], [[False, True, True, True, True]])

    def loss() -> torch.Tensor:
        return chunked_loss(decoder, learned_stream(decoder, batch), batch.targets)[0]

    for name in full:
        weight = adapter.full[name].weight
        (grad,) = torch.autograd.grad(loss(), weight)
        way = torch.randn(weight.shape, generator=torch.Generator().manual_seed(2), dtype=torch.float64)
        slopes = []
        for step in (1e-6, -1e-6):
            weight.data.add_(way, alpha=step)
            slopes.append(loss().item() / (2 * step))
            weight.data.add_(way, alpha=-step)
        assert sum(slopes) == pytest.approx(float((grad * way).sum()), rel=1e-6)
        weight.data.add_(0.1)
    assert not torch.allclose(logits(decoder), base)
    with adapter.switched(on=False):
        assert torch.equal(logits(decoder), base)
    with pytest.raises(InputError, match="name embedding"):
        attach(tiny_decoder(), AdapterSettings(full=("head",)))


def stirred_file(base: Base, path: Path, settings: AdapterSettings, seed: int) -> dict[str, torch.Tensor]:
    """Write an adapter of random factors; return what it adds to each matrix."""
    detach(base.decoder)
    adapter = attach(base.decoder, settings)
    for factor in adapter.parameters:
        factor.data.normal_(0, 0.1, generator=torch.Generator().manual_seed(seed))
    save_adapter(path, adapter, header_of(settings, base.fingerprint))
    return {name: merged(low) - low.weight for name, low in adapter.maps.items()}


def with_matrices(base: Base, *added: tuple[float, dict[str, torch.Tensor]]) -> torch.Tensor:
    """Return the logits of the base with these added to its matrices, then take them off again."""
    detach(base.decoder)
    for sign in (1, -1):
        for weight, matrices in added:
            for name, value in matrices.items():
                base.decoder.get_parameter(f"{name}.weight").data.add_(value, alpha=sign * weight)
        if sign == 1:
            found = logits(base.decoder)
    return found


def test_adapters_are_added_up_and_held_under_one_another(base_folder: Path, tmp_path: Path) -> None:
    """Weighted sums and a frozen one below are the base with both added to its matrices; float64, 1e-9."""
    base = open_base(base_folder, torch.float64)
    first, second = tmp_path / "1", tmp_path / "2"
    one = stirred_file(base, first, AdapterSettings(rank=3, alpha=9), 1)
    two = stirred_file(base, second, AdapterSettings(rank=2, reach="attention", scaling="root"), 2)
    files = read_adapter(first, base), read_adapter(second, base)
    expected = with_matrices(base, (0.5, one), (-2.0, two))
    put_on(base, summed([(files[0], 0.5), (files[1], -2.0)]))
    torch.testing.assert_close(logits(base.decoder), expected, rtol=1e-9, atol=1e-9)
    detach(base.decoder)
    settings = AdapterSettings(rank=2, reach="attention", over=str(first))
    adapter = attach(base.decoder, settings, frozen=frozen_products(files[0]))
    torch.testing.assert_close(logits(base.decoder), with_matrices(base, (1.0, one)), rtol=1e-9, atol=1e-9)
    put_back = attach(base.decoder, settings, frozen=frozen_products(files[0]))
    assert put_back.n_parameters == adapter.n_parameters == attach(tiny_decoder(), settings).n_parameters
    put_back.copy_from({n: t + 0.1 if ".frozen" not in n else t for n, t in put_back.tensors().items()})
    save_adapter(tmp_path / "3", put_back, header_of(settings, base.fingerprint))
    of_both = logits(base.decoder)
    third = read_adapter(tmp_path / "3", base)
    put_on(base, third)
    torch.testing.assert_close(logits(base.decoder), of_both, rtol=1e-12, atol=1e-12)
    put_on(base, summed([(third, 1.0)]))
    torch.testing.assert_close(logits(base.decoder), of_both, rtol=1e-9, atol=1e-9)
    begun = dataclasses.replace(settings, over="", begin="3")
    detach(base.decoder)
    begin_with(base, begun, tmp_path / "3")
    torch.testing.assert_close(logits(base.decoder), of_both, rtol=1e-12, atol=1e-12)
    stirred_file(base, first, AdapterSettings(magnitude=True), 3)
    with pytest.raises(InputError, match="magnitude: expected low-rank maps alone, which can be added"):
        summed([(files[1], 1.0), (read_adapter(first, base), 1.0)])


@pytest.mark.parametrize(
    "wrong",
    [
        {"full": ("norm",)},
        {"magnitude": True, "start": "singular"},
        {"over": "a", "begin": "b"},
        {"ranks": {"mlp.*": 2.5}},
        {"scaling": "x"},
        {"start": "x"},
        {"rank": 0},
        {"seed": 2**31},
        {"alpha": float("nan")},
        {"dropout": 1.0},
        {"reach": "everything"},
    ],
)
def test_settings_out_of_range_are_refused(wrong: dict[str, object]) -> None:
    """Each by its name."""
    with pytest.raises(UsageError, match=next(iter(wrong))):
        AdapterSettings(**wrong)  # type: ignore[arg-type]


def header_of(settings: AdapterSettings, fingerprint: str) -> AdapterHeader:
    parts = ("sha256:data", "sha256:parts", ("sha256:first",))
    read = (False, {"question": "data.ask"}, ("a", "b"))
    return AdapterHeader(settings, {"name": "t"}, {"source": "x"}, "tiny", fingerprint, *parts, *read)


SHAPES = [
    AdapterSettings(rank=3, seed=0),
    AdapterSettings(start="singular", scaling="root", ranks={"mlp.*": 2}, names=("mlp.*", "query")),
    AdapterSettings(magnitude=True, full=("embedding",), ranks={"layers.1.*": 1, "down": 5}),
]


@pytest.mark.parametrize("settings", SHAPES)
def test_a_saved_adapter_comes_back_on_its_base_alone(
    base_folder: Path, tmp_path: Path, tokenizer_text: str, settings: AdapterSettings
) -> None:
    """Same logits, same header, same bytes when saved twice; another base is refused with both fingerprints."""
    base = open_base(base_folder)
    adapter = stirred(base.decoder, settings)
    path, again = tmp_path / "a.safetensors", tmp_path / "b.safetensors"
    header = header_of(settings, base.fingerprint)
    save_adapter(path, adapter, header)
    save_adapter(again, adapter, header)
    assert path.read_bytes() == again.read_bytes()
    assert read_header(path) == header
    assert list(read_header(path).settings.ranks) == list(settings.ranks)
    fresh = open_base(base_folder)
    load_adapter(path, fresh)
    assert torch.equal(logits(fresh.decoder), logits(base.decoder))
    load_adapter(path, fresh)
    assert torch.equal(logits(fresh.decoder), logits(base.decoder))
    other = open_base(write_base(tmp_path / "other", tokenizer_text, seed=4))
    with pytest.raises(InputError) as caught:
        load_adapter(path, other)
    assert base.fingerprint in str(caught.value)
    assert other.fingerprint in str(caught.value)


def test_files_that_are_no_adapter_are_refused(base_folder: Path, tmp_path: Path) -> None:
    """Missing, a base's weights, cut short, or with factors of other maps than its header says."""
    with pytest.raises(InputError, match="train first"):
        read_header(tmp_path / "none.safetensors")
    with pytest.raises(InputError, match="choose a file that a training wrote"):
        read_header(base_folder / "model.safetensors")
    base = open_base(base_folder)
    adapter = attach(base.decoder, AdapterSettings(rank=3))
    path = tmp_path / "a.safetensors"
    save_adapter(path, adapter, header_of(AdapterSettings(rank=4), base.fingerprint))
    with pytest.raises(InputError, match="another rank"):
        load_adapter(path, base)
    save_adapter(path, adapter, header_of(AdapterSettings(rank=3), base.fingerprint))
    path.write_bytes(path.read_bytes()[:-1] + b"?")
    with pytest.raises(InputError, match="its tensors are not as they were written'; choose a file"):
        load_adapter(path, base)
    path.write_bytes(path.read_bytes()[:60])
    with pytest.raises(InputError, match="an adapter file"):
        read_header(path)
