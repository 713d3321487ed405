"""Matrices held in few bits: the rules bit for bit, products and gradients, bytes, and whole bases."""

from __future__ import annotations

import dataclasses
import itertools
import threading
from pathlib import Path

import gguf
import numpy as np
import pytest
import torch
from torch import Tensor

from foldkit.adapters import AdapterSettings, attach
from foldkit.demo import PELLAM
from foldkit.formats import BLOCK_TYPES, InputError, UsageError, expand_blocks
from foldkit.models import Decoder, generate, open_base
from foldkit.models.batch import pack
from foldkit.models.held import (
    HOLDERS,
    FrozenLinear,
    Held,
    Int8,
    Nf4,
    Packed,
    Sixteen,
    contract,
    digits,
    packed,
    product,
)
from foldkit.models.held.digits import digit_product
from foldkit.models.held.narrow import narrow
from foldkit.models.held.nf4 import TABLE, _nearest
from foldkit.models.held.scratch import scratch
from foldkit.models.linear import Linear
from foldkit.models.quick_training import TrainingLayer, training_layers
from foldkit.models.settings import WEIGHTS

from ..conftest import tiny_decoder
from .test_base_files import write_gguf


def matrix(n_rows: int = 21, width: int = 96) -> torch.Tensor:
    """Return random weights with a row of zeros, a block of zeros, and two exact ties."""
    weight = torch.randn(n_rows, width, generator=torch.Generator().manual_seed(2)) * 0.1
    weight[3], weight[5, :64] = 0, 0
    weight[7, :64] = 1.0
    weight[7, 1:3] = torch.tensor([(TABLE[8] + TABLE[9]) / 2, (TABLE[2] + TABLE[3]) / 2])
    return weight


def held_as(kind: str) -> Held:
    if kind == "packed":
        data = gguf.quants.quantize(matrix().numpy(), gguf.GGMLQuantizationType.Q4_1)
        return Packed(torch.from_numpy(data), 3, 96)
    return Sixteen(matrix().half()) if kind == "float16" else HOLDERS[kind](matrix())


KINDS = [*HOLDERS, "float16", "packed"]


@pytest.mark.parametrize("kind", KINDS)
def test_products_and_gradients_are_those_of_the_expanded_matrix(kind: str, monkeypatch: pytest.MonkeyPatch) -> None:
    """In float64 to 1e-12, expanded whole or a few rows at a time; rows can be picked in any order.

    For ten rows of x, taken as many or as few, with room for so many numbers: in parts as large as one another.
    """
    held = held_as(kind)
    whole = held.rows(slice(None), torch.float64)
    order = torch.tensor([7, 0, 20, 7])
    assert torch.equal(held.rows(order, torch.float64), whole[order])
    assert (whole - matrix().double()).abs().max() < {"nf4": 0.2, "packed": 0.1}.get(kind, 0.005)
    for few, for_few, for_many, n_rows in ((9, 1, 2**20, 21), (9, 1, 1500, 11), (10, 500, 1, 5), (10, 9, 1, 1)):
        for name, value in (("_FEW", few), ("_FOR_FEW", for_few), ("_FOR_MANY", for_many)):
            monkeypatch.setattr(contract, name, value)
        assert next(held.chunks(10)) == slice(0, n_rows)
        x = torch.randn(2, 5, 96, dtype=torch.float64, requires_grad=True)
        toward = torch.randn(2, 5, 21, dtype=torch.float64)
        y = product(x, held)
        torch.testing.assert_close(y, x @ whole.T, rtol=1e-12, atol=1e-12)
        (gradient,) = torch.autograd.grad(y, x, toward)
        torch.testing.assert_close(gradient, toward @ whole, rtol=1e-12, atol=1e-12)


def test_rows_are_expanded_into_the_same_memory_again(monkeypatch: pytest.MonkeyPatch) -> None:
    """Also after answers, of any dtype; another thread has its own, and what a product gave stays as it was."""
    monkeypatch.setattr(contract, "_FEW", 2)
    device = torch.device("cpu")
    with torch.inference_mode():
        first = scratch(100, torch.float64, device)
    first.fill_(3)
    assert scratch(50, torch.float64, device).data_ptr() == first.data_ptr()
    found = list[Tensor]()
    other = threading.Thread(target=lambda: found.append(scratch(100, torch.float64, device)))
    other.start()
    other.join()
    assert found[0].data_ptr() != first.data_ptr()
    assert len(scratch(10_000, torch.float64, device)) == 10_000
    x, (one, two) = torch.randn(3, 96, dtype=torch.float64), (Int8(matrix()), Int8(matrix() + 1))
    y = product(x, one)
    before = y.clone()
    product(x, two)
    assert torch.equal(y, before)
    assert torch.equal(scratch(21 * 96, torch.float64, device).view(21, 96), two.rows(slice(None), torch.float64))


@pytest.mark.parametrize("kind", KINDS)
def test_rows_in_memory_that_is_given_are_those_in_their_own(kind: str, monkeypatch: pytest.MonkeyPatch) -> None:
    """In float32 they stand there but for rows that are filled up and have no room; a file's blocks in pieces too."""
    held, which = held_as(kind), slice(2, 9)
    whole = held.rows(which, torch.float32)
    monkeypatch.setattr(packed, "_FAST_PIECE", 200)
    for n_numbers, dtype in itertools.product((7 * 96, 21 * 96), (torch.float32, torch.bfloat16)):
        into = torch.zeros(n_numbers)
        rows = held.rows(which, dtype, into)
        assert torch.equal(rows, whole.to(dtype))
        if dtype == torch.float32:
            elsewhere = kind == "nf4" and n_numbers < 7 * 128
            assert (rows.data_ptr() == into.data_ptr()) != elsewhere


@pytest.fixture(params=[2**22, 500])
def at_once(request: pytest.FixtureRequest, monkeypatch: pytest.MonkeyPatch) -> None:
    """Let matrices be taken over whole, and a few rows at a time."""
    monkeypatch.setattr(contract, "_AT_ONCE", request.param)


@pytest.mark.usefixtures("at_once")
def test_int8_is_its_rule() -> None:
    """Bit for bit against NumPy, a row of zeros included."""
    held, weight = Int8(matrix()), matrix().numpy()
    for row in range(len(weight)):
        scale = np.abs(weight[row]).max() / np.float32(127) or np.float32(1)
        assert held.scales[row].item() == scale
        np.testing.assert_array_equal(held.numbers[row].numpy(), np.rint(weight[row] / scale).astype(np.int8))


@pytest.mark.skipif(not digits.has_instructions(), reason="needs products of 8-bit whole numbers")
@pytest.mark.parametrize("at_once", [2**18, 70])
def test_products_by_digits_are_as_exact_as_those_of_floats(at_once: int, monkeypatch: pytest.MonkeyPatch) -> None:
    """Against float64, rows of any size and with one number far above the rest: never further off than 1 in 2**22.

    Nor than the product of floats, which rounds each sum many times.
    Of what goes in 2**-30 of the largest may be lost, and each sum is rounded once. Without the last two digits it is
    further off: the control. The largest numbers there can be, and none at all, are exact.
    """
    monkeypatch.setattr(digits, "_AT_ONCE", at_once)
    draw = torch.Generator().manual_seed(4)
    held = Int8(torch.randn(77, 640, generator=draw))
    x = torch.randn(9, 640, generator=draw) * 10.0 ** torch.arange(-12, 15, 3)[:, None]
    x[3, 5] *= 1000
    x = x.T.contiguous().T  # as what is given may stand in memory
    assert held.few_times(x) is not None
    for other in (x.double(), torch.ones(21, 640)):  # more exact, and more rows than pay
        assert held.few_times(other) is None
    exact = x.double() @ held.numbers.double().T
    size = x.double().abs() @ held.numbers.double().abs().T
    off, of_floats = (
        ((y - exact) / size).abs().max() for y in (digit_product(x, held.numbers), x @ held.numbers.float().T)
    )
    assert off < min(of_floats, 2.0**-22)
    torch.testing.assert_close(product(x[:, None], held)[:, 0], (exact * held.scales.T).float(), rtol=1e-5, atol=1e-5)
    full = torch.full((2, 640), 2.0**100)
    full[1] = 0
    most = torch.tensor([[127], [-127]], dtype=torch.int8).expand(2, 640).contiguous()
    assert torch.equal(digit_product(full, most), full[:, :1] * 640 * torch.tensor([127.0, -127.0]))
    counts = digits._counts().clone()
    counts[:2] = 0
    monkeypatch.setattr(digits, "_counts", lambda: counts)
    assert ((digit_product(x, held.numbers) - exact) / size).abs().max() > 2.0**-18
    monkeypatch.setattr(digits, "has_instructions", lambda: False)
    assert held.few_times(x) is None


@pytest.mark.skipif(not digits.has_instructions(), reason="needs products of 8-bit whole numbers")
@pytest.mark.parametrize("bad", [float("nan"), float("inf"), float("-inf")])
def test_a_row_that_is_not_finite_gives_none_that_is(bad: float) -> None:
    """And leaves the rows beside it alone."""
    x = torch.ones(2, 640)
    x[0, 7] = bad
    found = product(x, Int8(torch.ones(5, 640)))
    assert not found[0].isfinite().any()
    assert torch.equal(found[1], torch.full((5,), 640.0))


@pytest.mark.usefixtures("at_once")
@pytest.mark.parametrize("kind", HOLDERS)
def test_blocks_are_taken_over_as_the_floats_that_they_are(kind: str, monkeypatch: pytest.MonkeyPatch) -> None:
    """Bit for bit, and never more rows at once than are looked at together."""
    packed, expand, n_rows = held_as("packed"), Packed.rows, list[int]()
    expected = HOLDERS[kind](packed.rows(slice(None), torch.float32))

    def rows(self: Packed, which: slice | torch.Tensor, dtype: torch.dtype) -> torch.Tensor:
        found = expand(self, which, dtype)
        n_rows.append(len(found))
        return found

    monkeypatch.setattr(Packed, "rows", rows)
    found = HOLDERS[kind](packed)
    assert max(n_rows) == min(21, contract._AT_ONCE // 96)
    for name, buffer in expected.named_buffers():
        assert torch.equal(found.get_buffer(name), buffer), name


def test_the_nearest_of_the_table_is_found_as_by_a_search() -> None:
    """At every bound, at the edges of cells, and beside both; what is no number has some index."""
    bounds = (torch.tensor(TABLE)[1:] + torch.tensor(TABLE)[:-1]) / 2
    places = torch.cat((bounds, torch.arange(-16, 17) / 16, torch.linspace(-1, 1, 10_001)))
    ends = (torch.nextafter(places, torch.tensor(toward)) for toward in (-2.0, 2.0))
    shares = torch.cat((places, *ends)).clamp(-1, 1)
    assert torch.equal(_nearest(shares), torch.bucketize(shares, bounds).to(torch.uint8))
    assert _nearest(torch.tensor([torch.nan])) < 16


@pytest.mark.usefixtures("at_once")
def test_nf4_is_its_rule() -> None:
    """Bit for bit against NumPy: the nearest of the table, the lower at a tie; constants in 8 bits by groups of 256."""
    weight = torch.cat((matrix(), matrix(260, 96) * 3)).numpy()
    held = Nf4(torch.from_numpy(weight))
    padded = np.pad(weight, ((0, 0), (0, 32))).reshape(len(weight), 2, 64)
    constants = np.abs(padded).max(2)
    table = np.array(TABLE, np.float32)
    numbers = []
    for block, constant in zip(padded.reshape(-1, 64), constants.reshape(-1), strict=True):
        share = block / constant if constant else block
        gaps = np.abs(share[:, None].astype(np.float64) - table.astype(np.float64))
        numbers += [int(np.flatnonzero(row <= row.min() + 1e-9)[0]) for row in gaps]
    packed = np.array(numbers, np.uint8).reshape(len(weight), -1)
    np.testing.assert_array_equal(held.numbers.numpy(), packed[:, ::2] * 16 + packed[:, 1::2])
    mean = torch.from_numpy(constants).mean().numpy()
    centred = (constants - mean).reshape(-1)
    found = held.constants.numpy().reshape(-1)
    for group in range(0, len(centred), 256):
        part = centred[group : group + 256]
        scale = np.abs(part).max() / np.float32(127)
        np.testing.assert_array_equal(found[group : group + 256], np.rint(part / scale).astype(np.int8))
        assert held.scales[group // 256].item() == scale
    expanded = held.rows(slice(None), torch.float32)
    for which in (slice(100, 140), slice(128, 256), slice(270, None)):
        assert torch.equal(held.rows(which, torch.float32), expanded[which])
        assert torch.equal(held.rows(torch.arange(281)[which], torch.float32), expanded[which])
    expanded = expanded[7, :3]
    constant = held.constants[7, 0].float() * held.scales[14 // 256] + held.mean
    assert torch.equal(expanded, table_of(15, 8, 2) * constant)


@pytest.mark.filterwarnings("ignore:invalid value", "ignore:overflow")
@pytest.mark.parametrize("type_id", BLOCK_TYPES)
def test_packed_rows_are_the_formats_own(type_id: int) -> None:
    """Bit for bit those of the general expansion, in many pieces and in the fast forms alike."""
    block = BLOCK_TYPES[type_id]
    n_blocks = 2 * 600 // block.n_values + 1
    data = np.random.default_rng(4).integers(0, 256, (300, n_blocks * block.n_bytes), dtype=np.uint8)
    width = n_blocks * block.n_values
    expected = expand_blocks(data.reshape(-1), type_id, (300, width))
    found = Packed(torch.from_numpy(data), type_id, width).rows(slice(None), torch.float32)
    np.testing.assert_array_equal(found.numpy(), expected)


def table_of(*numbers: int) -> torch.Tensor:
    return torch.tensor([TABLE[number] for number in numbers])


@pytest.mark.parametrize("weights", ["float32", "bfloat16", "int8", "nf4"])
def test_a_base_is_opened_where_there_is_room_for_what_it_takes(weights: str) -> None:
    """And refused where there is a third less; what it takes is known to a fifth."""
    n_bytes = open_base(PELLAM, weights=weights).n_weight_bytes
    open_base(PELLAM, weights=weights, room=1.2 * n_bytes)
    with pytest.raises(InputError, match="memory: expected at most"):
        open_base(PELLAM, weights=weights, room=0.65 * n_bytes)


@pytest.mark.parametrize(("kind", "most"), [("bfloat16", 2.0), ("int8", 1.03), ("nf4", 0.53), ("packed", 0.63)])
def test_bytes_for_a_weight(kind: str, most: float) -> None:
    """Scales included, at a width of 512."""
    weight = torch.randn(2048, 512)
    held = HOLDERS[kind](weight) if kind != "packed" else Packed(torch.zeros(2048, 320, dtype=torch.uint8), 3, 512)
    assert held.n_bytes / weight.numel() <= most


def logits(decoder: Decoder, ids: list[int]) -> torch.Tensor:
    return decoder.logits(decoder(torch.tensor([ids])))


@pytest.mark.parametrize("weights", WEIGHTS)
@pytest.mark.parametrize("form", ["folder", "gguf"])
def test_a_base_answers_and_trains_with_its_weights_held(
    tmp_path: Path, base_folder: Path, form: str, weights: str
) -> None:
    """The logits are those of a plain base with the expanded matrices; every kind answers and trains an adapter."""
    path = base_folder if form == "folder" else write_gguf(tmp_path / "a.gguf", tiny_decoder(torch.float32))
    plain, base = open_base(path, torch.float64), open_base(path, torch.float64, weights)
    ids = [5, 9, 200, 31, 7]
    if weights in ("stored", "float32"):
        torch.testing.assert_close(logits(base.decoder, ids), logits(plain.decoder, ids), rtol=1e-12, atol=1e-12)
    for name, held in base.decoder.named_modules():
        if isinstance(held, Held):
            weight = plain.decoder.get_parameter(f"{name.removesuffix('.held')}.weight")
            weight.copy_(held.rows(slice(None), torch.float64))
    torch.testing.assert_close(logits(base.decoder, ids), logits(plain.decoder, ids), rtol=1e-9, atol=1e-9)
    assert base.decoder.n_parameters == plain.decoder.n_parameters
    assert (base.n_weight_bytes < plain.n_weight_bytes) == (weights != "float32")
    answers = generate(base.decoder, [ids, ids[:2]], (), 5)
    assert answers[0] == generate(base.decoder, [ids], (), 5)[0]
    assert answers[0][0] == int(logits(base.decoder, ids)[0, -1].argmax())
    adapter = attach(base.decoder, AdapterSettings(rank=2))
    for factor in adapter.parameters:
        torch.nn.init.normal_(factor, std=0.1)
    batch = pack([ids, ids[1:]], [[False, False, True, True, True], [False, True, True, True]])
    layers = training_layers(base.decoder)
    assert all(isinstance(layer, TrainingLayer) for layer in layers)
    streams = [base.decoder(batch.ids, pieces=batch.pieces, wanted=batch.before, layers=some) for some in ((), layers)]
    own, quick = (torch.autograd.grad(stream.square().sum(), adapter.parameters) for stream in streams)
    torch.testing.assert_close(quick, own, rtol=1e-9, atol=1e-9)
    assert all(gradient.abs().sum() > 0 for gradient in quick)
    assert not any(value.requires_grad for name, value in base.decoder.named_parameters() if "factor" not in name)


@pytest.mark.parametrize("weights", WEIGHTS)
def test_a_base_in_bfloat16_on_a_processor_rounds_what_it_multiplies_alone(
    tmp_path: Path, base_folder: Path, weights: str
) -> None:
    """Products are those of rounded numbers, to the rounding of the sum; of numbers as they are they are not.

    There and back, of one row and of more. All else is in float32, but where the base is to be divided.
    """
    form = write_gguf(tmp_path / "a.gguf", tiny_decoder(torch.float32)) if weights == "stored" else base_folder
    base, wide = open_base(form, torch.bfloat16, weights), open_base(form, weights=weights)
    assert (base.compute, base.decoder.dtype) == ("bfloat16", torch.float32)
    torch.manual_seed(7)
    maps = [
        (name, module) for name, module in base.decoder.named_modules() if isinstance(module, Linear | FrozenLinear)
    ]
    assert len(maps) == 14
    for (name, module), n_rows in itertools.product(maps, (1, 20)):
        (theirs,) = [own for other, own in wide.decoder.named_modules() if other == name]
        exact, wide_rows = theirs.weight.double(), torch.randn(n_rows, theirs.weight.shape[1], requires_grad=True)
        y = module.forward(wide_rows)
        to_y = torch.randn(y.shape)
        (to_x,) = torch.autograd.grad(y, wide_rows, to_y)
        rounded, matrix = wide_rows.detach().bfloat16().double(), exact.bfloat16().double()
        for found, expected, unrounded in (
            (y, rounded @ matrix.T, wide_rows.detach().double() @ exact.T),
            (to_x, to_y.bfloat16().double() @ matrix, to_y.double() @ exact),
        ):
            torch.testing.assert_close(found.double(), expected, rtol=2**-8, atol=1e-6)
            assert not torch.allclose(found.double(), unrounded, rtol=2**-8, atol=1e-6)
    if weights == "float32":
        assert base.n_weight_bytes < 0.6 * wide.n_weight_bytes
        assert open_base(form, torch.bfloat16, divided=True).decoder.dtype == torch.bfloat16


def test_counts_of_rows_come_again() -> None:
    """For each one a library makes a kernel: of 2,000 counts 25 are left, the rows filled up by zeros."""
    made = {n: narrow(torch.full((n, 3), 1.001)) for n in range(1, 2001)}
    assert len({len(rows) for rows in made.values()}) == 25
    assert all(len(rows) - n < max(16, n / 4) for n, rows in made.items())
    assert all(torch.equal(rows.float().sum(0), torch.full((3,), float(n))) for n, rows in made.items())


def test_nf4_over_a_low_bit_base_is_said(tmp_path: Path) -> None:
    """And an unknown way of holding weights gets the near name."""
    file = write_gguf(tmp_path / "a.gguf", tiny_decoder(torch.float32))
    assert open_base(file, weights="nf4").notes == ()
    kind = gguf.GGMLQuantizationType.Q8_0
    wide = Decoder(dataclasses.replace(tiny_decoder().spec, d_model=32))
    for value in wide.parameters():
        value.data.normal_()
    low = write_gguf(tmp_path / "b.gguf", wide, kind)
    (note,) = open_base(low, weights="nf4").notes
    assert "low-bit already" in note
    assert open_base(low, weights="int8").notes == ()
    with pytest.raises(UsageError, match="did you mean 'int8'"):
        open_base(file, weights="int9")
