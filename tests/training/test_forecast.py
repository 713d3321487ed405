"""What is said before a training: bytes, counts, and the rates that were tried."""

from __future__ import annotations

import dataclasses
import itertools
import math
import statistics
import subprocess
import sys
from pathlib import Path
from typing import Any

import pytest
import torch

from foldkit.adapters import Adapter, AdapterSettings, attach
from foldkit.adapters.attaching import detach
from foldkit.datasets import Example
from foldkit.formats import UsageError
from foldkit.models import Decoder, open_base, pack
from foldkit.models.batch import Batch
from foldkit.training import (
    Memory,
    Stepped,
    TrainSettings,
    TriedRate,
    fast_micro_batch,
    first_steps,
    forecast,
    forecasting,
    memory_of_training,
    micro_batches,
    pass_cost,
    rate_search,
    suggested_rate,
    train_adapter,
    try_rates,
)
from foldkit.training.batches import batches, epoch_order
from foldkit.training.costs import kept_bytes, memory_of
from foldkit.training.fitting import large_steps
from foldkit.training.free_memory import left_in_groups
from foldkit.training.stepping import Stepper

from ..conftest import tiny_decoder

SETTINGS = TrainSettings(epochs=2, batch=4, micro_batch=2, validations=2)


def parts(**changes: object) -> tuple[Decoder, Adapter]:
    decoder = tiny_decoder(torch.float32)
    decoder.spec = dataclasses.replace(decoder.spec, **changes)  # type: ignore[arg-type]
    for layer in decoder.layers:
        layer.attention.cap = decoder.spec.attention_cap
    return decoder, attach(decoder, AdapterSettings(rank=4))


@pytest.mark.parametrize(("cap", "rank", "start"), [(0.0, 4, "zero"), (30.0, 4, "zero"), (0.0, 16, "singular")])
def test_bytes_of_a_pass_follow_from_those_of_one_example(cap: float, rank: int, start: str) -> None:
    """Within a hundredth of what is kept, of few keys and of many; by pairs, and with copies of factors: the controls.

    Of many keys nothing is kept by pairs, whether products are bounded or not.
    """
    decoder, _ = parts(attention_cap=cap)
    detach(decoder)
    attach(decoder, AdapterSettings(rank=rank, start=start))
    cost = pass_cost(decoder, [n % 200 for n in range(1400)])
    for n in (2, 100, 160, 300, 1300):
        ids = [n % 200 for n in range(n)]
        assert cost.of(pack([(*ids, 0)], [[True] * (n + 1)])) == pytest.approx(kept_bytes(decoder, ids), rel=0.01)
    assert cost.fixed > 0.1 * kept_bytes(decoder, ids[:2])
    assert cost.few.per_token * 160 < 0.8 * kept_bytes(decoder, ids[:160])
    assert cost.many.per_pair == 0


def test_bytes_are_those_of_a_pass_in_training() -> None:
    """With dropout it keeps a byte for each number that goes into a pair; in use nothing is dropped."""
    decoders = [tiny_decoder(torch.float32) for _ in range(2)]
    for decoder, dropout in zip(decoders, (0.0, 0.1), strict=True):
        attach(decoder, AdapterSettings(rank=4, dropout=dropout))
    kept = [kept_bytes(decoder, range(100)) for decoder in decoders]
    spec = decoders[0].spec
    into = 2 * spec.d_model + spec.n_heads * spec.head_dim + spec.d_ff
    assert kept[1] - kept[0] == 100 * spec.n_layers * into


def test_memory_by_part_follows_the_settings(examples: list[Example]) -> None:
    """By hand: two moments and a gradient of four bytes a number; fewer bytes with smaller passes or recomputing.

    Of one pass the gradient comes as its activations go, but that of an embedding which is trained whole.
    """
    decoder, adapter = parts()
    cost = pass_cost(decoder, examples[0].ids)

    def memory(settings: TrainSettings) -> Memory:
        return memory_of(decoder, adapter, settings, cost, [micro_batches(examples, settings)])

    plain = memory(SETTINGS)
    assert plain.optimiser == 8 * adapter.n_parameters == plain.adapter
    assert plain.weights == 4 * (decoder.n_parameters - adapter.n_parameters)
    assert memory(dataclasses.replace(SETTINGS, averaging=0.9)).optimiser == 1.5 * plain.optimiser
    alone = dataclasses.replace(SETTINGS, batch=10, micro_batch=10)
    assert memory(alone).adapter == 4 * adapter.n_parameters
    for changes in ({"micro_batch": 1}, {"recompute": True}):
        less = memory(dataclasses.replace(SETTINGS, **changes))  # type: ignore[arg-type]
        assert less.activations < plain.activations
        assert less.weights == plain.weights
    detach(decoder)
    adapter = attach(decoder, AdapterSettings(rank=4, full=("embedding",)))
    (embedding,) = adapter.full.values()
    assert memory(alone).adapter == 4 * (adapter.n_parameters + embedding.weight.numel())


def test_a_forecast_counts_what_a_training_then_does(examples: list[Example]) -> None:
    """Steps and tokens exactly; adapter and random state stay as they were; times are there."""
    decoder, adapter = parts()
    before, state = [f.detach().clone() for f in adapter.parameters], torch.get_rng_state()
    found = forecast(decoder, adapter, examples, examples[:3], SETTINGS, 10**9)
    assert found.fits
    assert found.changes[0].peak < found.memory.peak
    assert all(torch.equal(a, b) for a, b in zip(before, adapter.parameters, strict=True))
    assert torch.equal(state, torch.get_rng_state())
    steps = [e for e in train_adapter(decoder, adapter, examples, examples[:3], SETTINGS) if isinstance(e, Stepped)]
    assert (found.n_steps, found.n_tokens) == (len(steps), steps[-1].n_tokens)
    assert found.n_learned == 2 * sum(example.n_learned for example in examples)
    takes = found.duration
    assert takes
    assert 0 < takes.first_check < takes.total
    assert takes.reference == 0
    assert 0 < takes.check_share < 1
    assert takes.last_step == found.n_steps
    first = forecast(decoder, adapter, examples, examples[:3], SETTINGS, 10**9, needs_reference=True).duration
    assert first
    assert 0 < first.reference < first.first_check
    limited = dataclasses.replace(SETTINGS, epochs=9000, minutes=0.01)
    short = forecast(decoder, adapter, examples, examples[:3], limited, 10**9)
    assert short.duration
    assert (short.duration.total, short.n_steps) == (pytest.approx(0.6), 27000)
    assert 0 < short.duration.last_step < short.n_steps


@pytest.mark.parametrize(("seconds", "n_measured"), [(0.25, 4), (0.5, 3), (25.0, 3), (30.0, 2), (70.0, 1)])
def test_three_steps_are_measured_more_short_ones_and_fewer_long_ones(
    examples: list[Example], monkeypatch: pytest.MonkeyPatch, seconds: float, n_measured: int
) -> None:
    """Enough for a second, and none after a minute; a validation's pass is one more time.

    Of these follow all times, by hand: two validations, after three steps and six, and a reference.
    """
    taken: list[object] = []
    monkeypatch.setattr(forecasting, "_seconds_of", lambda action, _: taken.append(action) or seconds)
    found = forecast(*parts(), examples, examples[:3], SETTINGS, 10**9, needs_reference=True)
    assert len(taken) == n_measured + 1
    takes = found.duration
    assert takes
    assert takes.step == pytest.approx(seconds, rel=0.2)
    lengths, passes = [example.n_tokens for example in examples], micro_batches(examples[:3], SETTINGS)
    steps = [sum(lengths[index] for index in step) for step in itertools.islice(batches(lengths, SETTINGS), 6)]
    made = takes.step / statistics.median(steps) * sum(steps)
    check = seconds * sum(one.ids.numel() for one in passes) / passes[0].ids.numel()
    reference = check * (1 + sum(lengths) / sum(lengths[:3]))
    assert takes.reference == pytest.approx(reference)
    assert takes.first_check == pytest.approx(reference + made / 2 + check)
    assert takes.total == pytest.approx(reference + made + 2 * check)
    assert takes.check_share == pytest.approx(2 * check / takes.total)


@pytest.mark.parametrize(("dtype", "n_times"), [(torch.float32, 1), (torch.bfloat16, 2)])
def test_what_a_library_makes_for_counts_of_rows_is_made_before_it_is_measured(
    base_folder: Path, examples: list[Example], monkeypatch: pytest.MonkeyPatch, dtype: torch.dtype, n_times: int
) -> None:
    """Each step that is measured was made once by then, the one of the largest pass among others."""
    made, measured = list[object](), list[int]()
    one_step, seconds_of = forecasting._one_step, forecasting._seconds_of
    monkeypatch.setattr(forecasting, "_one_step", lambda *given: made.append(given) or one_step(*given))
    monkeypatch.setattr(forecasting, "_seconds_of", lambda act, n: measured.append(n) or (seconds_of(act, n) and 0.5))
    decoder = open_base(base_folder, dtype).decoder
    forecast(decoder, attach(decoder, AdapterSettings(rank=2)), examples, examples[:3], SETTINGS, 10**9)
    assert measured == [n_times] * 4
    assert len(made) == 1 + 3 * n_times


@pytest.mark.parametrize("changes", [{}, {"packing": False}, {"batch_tokens": 60}, {"whole_epochs": False}])
def test_a_long_example_counts_however_late_it_comes(
    examples: list[Example], monkeypatch: pytest.MonkeyPatch, changes: dict[str, Any]
) -> None:
    """Past the steps that stand for all: in what is said, in the step that is measured, in what a training chooses by.

    The steps that stand for all have it not: the control.
    """
    settings = TrainSettings(batch=4, micro_batch=2, validations=1, **changes)
    rows = [examples[index % 10] for index in range(1000)]
    ids = examples[0].ids * 9
    rows[epoch_order(1000, 0, settings.seed)[990]] = late = Example(1001, ids, ((len(ids) - 3, len(ids)),))
    first = first_steps(rows, settings)
    assert late not in itertools.chain.from_iterable(first)
    assert late in itertools.chain.from_iterable(large_steps(rows, settings))
    last = epoch_order(1001, 0, settings.seed)[1000]  # where a batch goes on into the next epoch, it stands in that
    by_last = [late if index == last else examples[0] for index in range(1001)]
    assert late in itertools.chain.from_iterable(large_steps(by_last, settings))
    decoder, adapter = parts()
    cost, measured = pass_cost(decoder, late.ids), list[Batch]()
    made = Stepper.gradient
    monkeypatch.setattr(Stepper, "gradient", lambda self, passes: measured.extend(passes) or made(self, passes))
    found = forecast(decoder, adapter, rows, examples[:3], settings, 10**9)
    assert found.memory.activations == max(map(cost.of, measured)) >= cost.of(pack([late.ids], [late.learned]))
    assert memory_of_training(decoder, adapter, rows, first, settings)(settings) == found.memory
    told = {one.setting: one for one in forecast(decoder, adapter, rows, examples[:3], settings, 1000).changes}
    order = list(told)  # in a packed row fewer at once are no less until the long one is left out
    assert (order.index("train.micro_batch=1") > order.index("train.window=64")) == settings.packing
    assert told["train.window=64"].costs == "1 of 1,000 rows, which are longer"
    without = [row for row in rows if row is not late]
    least = dataclasses.replace(settings, micro_batch=1, recompute=True)
    alone = forecast(decoder, adapter, without, examples[:3], least, 1000).memory.peak
    assert min(told["train.micro_batch=1"].peak, told["train.window=64"].peak) == alone
    assert alone < told["train.recompute=true"].peak
    auto = dataclasses.replace(settings, micro_batch="auto")
    chosen = forecast(decoder, adapter, rows, examples[:3], auto, 1000).micro_batch
    assert (chosen > 1) == settings.packing  # fewer would be slower, and take no less
    counted = [sum(getattr(one, name) for one in rows) for name in ("n_tokens", "n_learned")]
    assert [found.n_tokens, found.n_learned] == [settings.epochs * n for n in counted]


def test_what_does_not_fit_is_said_before_it_is_tried(examples: list[Example]) -> None:
    """No step is measured; the changes take less and less; the micro-batch is chosen by what is free."""
    decoder, adapter = parts()
    found = forecast(decoder, adapter, examples, examples[:3], SETTINGS, 1000)
    assert not found.fits
    assert found.duration is None
    peaks = [found.memory.peak, *(change.peak for change in found.changes)]
    assert peaks == sorted(peaks, reverse=True)
    assert [change.setting.partition("=")[0] for change in found.changes] == [
        "train.micro_batch",
        "train.recompute",
        "base.weights",
        "base.weights",
    ]
    assert found.changes[0].setting == "train.micro_batch=1"
    eight, four = (dataclasses.replace(SETTINGS, micro_batch=n, batch=8) for n in (8, 4))
    room = round(forecast(decoder, adapter, examples, examples[:3], four, 10**9).memory.peak / 0.9) + 10
    (first, *_) = forecast(decoder, adapter, examples, examples[:3], eight, room).changes
    assert first.setting == "train.micro_batch=4"
    auto = dataclasses.replace(SETTINGS, micro_batch="auto", batch=8)
    assert forecast(decoder, adapter, examples, examples[:3], auto, 10**9).micro_batch == 8
    assert forecast(decoder, adapter, examples, examples[:3], auto, 1000).micro_batch == 1
    measured = forecast(decoder, adapter, examples, examples[:3], SETTINGS, room, level=1)
    assert measured.memory.peak > measured.safe_bytes > measured.memory.known  # with all that this process holds
    assert measured.duration
    assert not measured.fits
    by_tokens = dataclasses.replace(auto, batch_tokens=16 * max(example.n_tokens for example in examples))
    assert fast_micro_batch(first_steps(examples, by_tokens), by_tokens) == len(examples)
    with pytest.raises(UsageError, match="a number of examples, or 'auto', found 'some'"):
        TrainSettings(micro_batch="some")
    with pytest.raises(ValueError, match="give a number"):
        micro_batches(examples, auto)


def test_rates_grow_until_the_loss_runs_away(examples: list[Example], monkeypatch: pytest.MonkeyPatch) -> None:
    """Each the same number of times the one before; the adapter is put back; the loss fell before it ran away."""
    decoder, adapter = parts()
    before = [factor.detach().clone() for factor in adapter.parameters]
    monkeypatch.setattr(rate_search, "_AWAY", 1.05)
    tried = list(try_rates(decoder, adapter, examples, SETTINGS, 40))
    ratios = {round(b.learning_rate / a.learning_rate, 6) for a, b in itertools.pairwise(tried)}
    assert ratios == {round(1e6 ** (1 / 39), 6)}
    assert tried[0].learning_rate == 1e-6
    assert len(tried) < 40
    assert all(torch.equal(a, b) for a, b in zip(before, adapter.parameters, strict=True))
    assert min(one.smoothed_loss for one in tried) < 0.8 * tried[0].smoothed_loss
    assert tried[-1].smoothed_loss > 1.05 * min(one.smoothed_loss for one in tried)


@pytest.mark.parametrize(
    ("losses", "expected"),
    [
        ([3, 3, 2, 1, 4, 9], 3e-5),
        ([1, 3, 3, 2, 2.5], 3e-5),
        ([3, 3, 2.9, 2.95, 3, 3], None),
        ([1, 1, 1, 0.95, 1], None),
        ([3, 3, 2, float("nan")], 3e-6),
        ([float("nan")], None),
    ],
)
def test_the_suggestion_is_a_tenth_of_the_lowest(losses: list[float], expected: float | None) -> None:
    """By hand; none where no rate lowered the loss by a tenth of what it was at rates that learn nothing."""
    tried = [TriedRate(step, 3 * 10.0 ** (step - 7), loss, loss) for step, loss in enumerate(losses)]
    assert suggested_rate(tried) == (pytest.approx(expected) if expected else None)


@pytest.mark.parametrize(
    ("own", "files", "left"),
    [
        ("0::/a/b", {"a/b": ("memory.max", "max"), "a": ("memory.max", "5000")}, 5000 - 1000 + 300),
        ("0::/host/path", {"": ("memory.max", "900")}, 200),
        ("4:memory:/a\n0::/", {"memory/a": ("memory.limit_in_bytes", "700")}, 0),
        ("3:cpu:/a\n0::/", {}, math.inf),
    ],
)
def test_memory_is_free_as_far_as_a_limit_leaves_it(
    tmp_path: Path, own: str, files: dict[str, tuple[str, str]], left: float
) -> None:
    """What a control group's limit leaves, beside copies of files: of any group above, in either form of the kernel."""
    (tmp_path / "own").write_text(own)
    for at, (name, limit) in files.items():
        folder = tmp_path / at
        folder.mkdir(parents=True, exist_ok=True)
        (folder / name).write_text(limit)
        for taken in ("memory.current", "memory.usage_in_bytes"):
            (folder / taken).write_text("1000\n")
        (folder / "memory.stat").write_text("anon 7\ninactive_file 300\ntotal_inactive_file 250\n")
    assert left_in_groups(tmp_path / "own", tmp_path) == left


def test_a_limit_on_addresses_is_all_there_is() -> None:
    """What `ulimit -v` leaves of a gigabyte more than a process has; without one it says nothing."""
    code = (
        "import resource, psutil; from foldkit.training.free_memory import free_bytes, left_of_addresses; "
        "print(left_of_addresses()); most = psutil.Process().memory_info().vms + 2**30; "
        "resource.setrlimit(resource.RLIMIT_AS, (most, most)); print(free_bytes())"
    )
    done = subprocess.run([sys.executable, "-c", code], capture_output=True, text=True, check=True)
    without, left = done.stdout.split()
    assert without == "inf"
    assert 0.9 * 2**30 < int(left) <= 2**30
