"""The laws of a gradient step, the schedule, and the loop."""

from __future__ import annotations

import dataclasses
import functools
import itertools
import math
import operator
import weakref
from collections.abc import Sequence
from typing import Any, TypeVar

import numpy as np
import pytest
import torch
from hypothesis import given, settings
from hypothesis import strategies as st

from foldkit.adapters import Adapter, AdapterSettings, attach
from foldkit.datasets import Example
from foldkit.formats import FoldKitError, InputError, UsageError
from foldkit.models import Batch, Decoder, chunked_loss, learned_stream, likelihood, pack, pad
from foldkit.models.piece import Piece
from foldkit.training import (
    Checked,
    Checking,
    Due,
    Finished,
    Skipped,
    Snapshot,
    Started,
    Stepped,
    TrainEvent,
    TrainSettings,
    count_steps,
    fast_micro_batch,
    first_steps,
    fitting,
    micro_batches,
    rate_at,
    summed_loss,
    train_adapter,
)
from foldkit.training.batches import batches, first_fit
from foldkit.training.noise import noisy
from foldkit.training.objective import Loss, ReplyObjective, tallies
from foldkit.training.optimiser import Optimiser
from foldkit.training.schedule import check_steps
from foldkit.training.settings import BEST_BY
from foldkit.training.stepping import Stepper

from ..conftest import assert_even, tiny_decoder
from ..models.oracle import logits as oracle_logits

E = TypeVar("E")


def with_adapter(dtype: torch.dtype = torch.float64, *, n: int = 1) -> tuple[Decoder, Adapter]:
    decoder = tiny_decoder(dtype)
    adapter = attach(decoder, AdapterSettings(rank=3, seed=n))
    for factor in adapter.parameters:
        factor.data.normal_(0, 0.2, generator=torch.Generator().manual_seed(n))
    return decoder, adapter


def gradient(
    examples: Sequence[Example], settings: TrainSettings, dtype: torch.dtype = torch.float64
) -> list[torch.Tensor]:
    """Return the gradient of the batch's mean loss, the batch divided as the settings say."""
    chosen = dataclasses.replace(settings, clip=1e9)
    stepper = Stepper(*with_adapter(dtype), chosen, ReplyObjective(chosen))
    stepper.gradient(stepper.passes(examples))
    return [factor.grad.clone() for factor in stepper.factors if factor.grad is not None]


def furthest(first: Sequence[torch.Tensor], second: Sequence[torch.Tensor]) -> float:
    """Return the largest relative distance of two gradients, by their norm."""
    return max(float((a - b).norm() / b.norm()) for a, b in zip(first, second, strict=True))


ALONE = TrainSettings(micro_batch=1, packing=False)
DIVIDED = [TrainSettings(micro_batch=size, packing=packing) for size in (1, 3, 10) for packing in (True, False)]


@pytest.mark.parametrize(("dtype", "tolerance"), [(torch.float64, 1e-9), (torch.float32, 1e-5)])
def test_the_gradient_does_not_change_with_the_way_a_batch_is_divided(
    examples: list[Example], dtype: torch.dtype, tolerance: float
) -> None:
    """Packed or padded, in passes of any size, layers kept or computed again: as one at a time.

    Known-bad controls: a mean of means differs; so do packed examples that see one another, or go on after the wrong
    beginning.
    """
    alone = gradient(examples, ALONE, dtype)
    assert len(alone) == 28
    for way, recompute in itertools.product(DIVIDED, (False, True)):
        chosen = dataclasses.replace(way, recompute=recompute)
        assert furthest(gradient(examples, chosen, dtype), alone) < tolerance
    decoder, adapter = with_adapter(dtype)
    for piece in micro_batches(examples, DIVIDED[3]):
        loss = summed_loss(decoder, piece)
        (loss.total / loss.n_tokens / 4).backward()  # type: ignore[no-untyped-call]
    wrong = [factor.grad for factor in adapter.parameters if factor.grad is not None]
    assert furthest(wrong, alone) > 1e-3
    (packed,) = micro_batches(examples, DIVIDED[4])
    own = pack([one.ids for one in examples], [one.learned for one in examples], share=False)
    assert sum(bool(piece.before) for piece in packed.pieces) == 4
    assert packed.ids.numel() < own.ids.numel()
    seen = dataclasses.replace(packed, pieces=(Piece(packed.ids.numel()),))
    other = next(index for index, piece in enumerate(packed.pieces) if index and not piece.before)
    wrong_pieces = [piece._replace(before=((other, n),)) if (n := piece.n_before) else piece for piece in packed.pieces]
    mistaken = dataclasses.replace(packed, pieces=tuple(wrong_pieces))
    for batch, is_right in ((packed, True), (own, True), (seen, False), (mistaken, False)):
        decoder, adapter = with_adapter(dtype)
        (summed_loss(decoder, batch).total / batch.n_learned).backward()  # type: ignore[no-untyped-call]
        distance = furthest([factor.grad for factor in adapter.parameters if factor.grad is not None], alone)
        assert distance < tolerance if is_right else distance > 1e-3


@pytest.mark.parametrize("keeping", [False, True])
def test_nothing_of_a_pass_stays_while_the_next_is_made(
    examples: list[Example], monkeypatch: pytest.MonkeyPatch, keeping: bool
) -> None:
    """Its loss, and with it its graph, is gone by then; one that somebody keeps is seen: the control."""
    plain, made, alive, kept = ReplyObjective.loss, list[weakref.ref[torch.Tensor]](), list[int](), list[Loss]()

    def loss(self: ReplyObjective, decoder: Decoder, batch: Batch, *, training: bool) -> Loss:
        alive.append(sum(one() is not None for one in made))
        found = plain(self, decoder, batch, training=training)
        made.append(weakref.ref(found.total))
        kept.extend([found] * keeping)
        return found

    monkeypatch.setattr(ReplyObjective, "loss", loss)
    gradient(examples[:3], ALONE)
    assert alive == ([0, 1, 2] if keeping else [0, 0, 0])


@given(lengths=st.lists(st.integers(1, 40), min_size=1, max_size=30), size=st.integers(1, 9))
@settings(max_examples=60, deadline=None, derandomize=True)
def test_packing_loses_nothing_and_overfills_nothing(lengths: list[int], size: int) -> None:
    """Every example once; no sequence over its room; two sequences are never both half empty."""
    texts = [tuple(range(n)) if n % 2 else tuple(range(12)[:n]) + tuple(range(50, 38 + n)) for n in lengths]
    examples = [Example(row, text, ((max(0, len(text) - 1), len(text)),)) for row, text in enumerate(texts)]
    ordered = sorted(examples, key=lambda example: -len(example.ids))
    room = max(40, sum(lengths) // size)
    rows = first_fit(ordered, room)
    assert sorted(example.row for row in rows for example in row) == list(range(len(lengths)))
    filled = sorted(sum(len(example.ids) for example in row) for row in rows)
    assert filled[-1] <= room
    assert len(filled) < 2 or filled[0] + filled[1] > room
    for place, row in enumerate(rows):
        later = [len(example.ids) for other in rows[place + 1 :] for example in other]
        assert sum(len(example.ids) for example in row) + min(later, default=room) > room, "the first that has room"
    chosen = TrainSettings(micro_batch=size)
    passes = micro_batches(examples, chosen)
    seen = []
    for one in passes:
        parts = one.ids[0].split([piece.n_tokens for piece in one.pieces])
        for part, piece in zip(parts, one.pieces, strict=True):
            seen.append((*(int(t) for index, n in piece.before for t in parts[index][:n]), *part.tolist()))
    assert sorted(seen) == sorted(text[: max(1, len(text) - 1)] for text in texts)
    assert sorted(int(t) for one in passes for t in one.targets) == sorted(text[-1] for text in texts if len(text) > 1)


@pytest.mark.parametrize(("smoothing", "cap"), [(0.0, 0.0), (0.3, 0.0), (0.0, 3.0)])
@pytest.mark.parametrize("trained_head", [False, True])
def test_losses_in_chunks_are_those_of_whole_logits(
    examples: list[Example], smoothing: float, cap: float, trained_head: bool, monkeypatch: pytest.MonkeyPatch
) -> None:
    """Loss, hits and gradients, to the stream and to a trained head, in chunks of three rows; float64 to 1e-9."""
    monkeypatch.setattr(likelihood, "rows_at_once", lambda _: 3)
    decoder = tiny_decoder(tied_head=False)
    decoder.spec = dataclasses.replace(decoder.spec, logit_cap=cap, logit_scale=0.7 if cap else 1.0)
    assert decoder.head is not None
    decoder.head.requires_grad_(requires_grad=trained_head)
    batch = micro_batches(examples, ALONE)[0]
    stream, targets = learned_stream(decoder, batch), batch.targets.clone()
    targets[::2] = decoder.logits(stream).argmax(-1)[::2]
    found = []
    for whole in (True, False):
        rows = stream.detach().clone().requires_grad_()
        decoder.zero_grad()
        if whole:
            logits = decoder.logits(rows)
            loss = torch.nn.functional.cross_entropy(logits, targets, reduction="sum", label_smoothing=smoothing)
            n_hit = int((logits.argmax(-1) == targets).sum())
        else:
            loss, n_hit = chunked_loss(decoder, rows, targets, smoothing)
        (loss * 0.7).backward()  # type: ignore[no-untyped-call]
        found.append((loss.item(), n_hit, rows.grad, decoder.head.weight.grad))
    (loss_a, hit_a, rows_a, head_a), (loss_b, hit_b, rows_b, head_b) = found
    assert (loss_b, hit_b) == (pytest.approx(loss_a, rel=1e-9), hit_a)
    assert 3 < hit_a < len(targets)
    torch.testing.assert_close(rows_b, rows_a, rtol=1e-9, atol=1e-12)
    assert (head_a is None) == (head_b is None) == (not trained_head)
    if trained_head:
        torch.testing.assert_close(head_b, head_a, rtol=1e-9, atol=1e-12)


def test_logits_are_gone_before_the_next_ones_are_made(
    examples: list[Example], monkeypatch: pytest.MonkeyPatch
) -> None:
    """In chunks of three rows, on the way there and back, for the loss of replies and of pairs."""
    monkeypatch.setattr(likelihood, "rows_at_once", lambda _: 3)
    decoder, batch, made = tiny_decoder(), micro_batches(examples, ALONE)[0], Decoder.logits
    alive: list[weakref.ref[torch.Tensor]] = []

    def logits(self: Decoder, stream: torch.Tensor) -> torch.Tensor:
        assert not any(one() is not None for one in alive)
        found = made(self, stream)
        alive.append(weakref.ref(found))
        return found

    monkeypatch.setattr(Decoder, "logits", logits)
    rows = learned_stream(decoder, batch).requires_grad_()
    chunked_loss(decoder, rows, batch.targets)[0].backward()  # type: ignore[no-untyped-call]
    likelihood.token_log_probs(decoder, rows, batch.targets)[0].sum().backward()  # type: ignore[no-untyped-call]
    assert len(alive) == 3 * math.ceil(len(rows) / 3)


def test_in_sixteen_bits_losses_are_added_up_in_thirty_two(
    examples: list[Example], monkeypatch: pytest.MonkeyPatch
) -> None:
    """Of the same logits in float64, to 1e-6; a sum in bfloat16 is 1e-4 off: the control."""
    monkeypatch.setattr(likelihood, "rows_at_once", lambda _: 3)
    decoder = tiny_decoder(torch.bfloat16)
    batch = micro_batches(examples, ALONE)[0]
    stream = learned_stream(decoder, batch).requires_grad_()
    made = decoder.embedding.logits(stream).detach().double().requires_grad_()
    losses = torch.nn.functional.cross_entropy(made, batch.targets, reduction="none")
    loss, _ = chunked_loss(decoder, stream, batch.targets)
    log_probs, _ = likelihood.token_log_probs(decoder, stream, batch.targets)
    assert loss.item() == pytest.approx(losses.sum().item(), rel=1e-6)
    torch.testing.assert_close(-log_probs.double(), losses, rtol=1e-5, atol=1e-5)
    assert losses.bfloat16().sum().item() != pytest.approx(losses.sum().item(), rel=1e-4)
    (to_stream,) = torch.autograd.grad(loss, stream)
    (to_logits,) = torch.autograd.grad(losses.sum(), made)
    expected = to_logits @ decoder.embedding.weight.double()
    assert (to_stream - expected).norm() < 0.01 * expected.norm()


def test_the_loss_is_the_numpy_derivations(examples: list[Example]) -> None:
    """Summed over learned tokens only, in float64 to 1e-9."""
    decoder, adapter = with_adapter()
    weights = {}
    for name, value in decoder.state_dict().items():
        if "factor" not in name:
            weights[name.replace(".frozen", "")] = value.numpy().copy()
    for name, low in adapter.maps.items():
        weights[f"{name}.weight"] += low.scale * (low.factor_b @ low.factor_a).detach().numpy()
    expected, n_expected = 0.0, 0
    for example in examples[:3]:
        table = oracle_logits(decoder.spec, weights, example.ids)
        for place in range(1, len(example.ids)):
            if example.learned[place]:
                row = table[place - 1]
                expected += math.log(np.exp(row - row.max()).sum()) + row.max() - row[example.ids[place]]
                n_expected += 1
    loss = summed_loss(decoder, micro_batches(examples[:3], TrainSettings(micro_batch=3))[0])
    assert loss.n_tokens == n_expected
    assert loss.total.item() == pytest.approx(expected, rel=1e-9)


def test_the_gradient_is_that_of_finite_differences(examples: list[Example]) -> None:
    """Central differences of the loss along a random direction, float64, 1e-6 relative."""
    grads = gradient(examples, DIVIDED[4])
    decoder, adapter = with_adapter()
    n_learned = sum(example.n_learned for example in examples)
    draw = torch.Generator().manual_seed(8)
    ways = [torch.randn(f.shape, generator=draw, dtype=torch.float64) for f in adapter.parameters]

    def moved(step: float) -> float:
        for factor, way in zip(adapter.parameters, ways, strict=True):
            factor.data.add_(way, alpha=step)
        loss = summed_loss(decoder, micro_batches(examples, DIVIDED[4])[0]).total.item() / n_learned
        for factor, way in zip(adapter.parameters, ways, strict=True):
            factor.data.add_(way, alpha=-step)
        return loss

    slope = (moved(1e-6) - moved(-1e-6)) / 2e-6
    assert slope == pytest.approx(sum(float((g * w).sum()) for g, w in zip(grads, ways, strict=True)), rel=1e-6)


def test_unlearned_tokens_add_nothing(examples: list[Example]) -> None:
    """Changing the last prompt token's role as a target changes no loss; a mask that learns it does: the control."""
    decoder, _ = with_adapter()
    example = max(examples, key=lambda e: e.n_learned)
    n_prompt = example.learned.index(True)
    right = summed_loss(decoder, pad([example.ids], [example.learned]))
    own = list(example.learned)
    own[n_prompt - 1] = True
    bad = summed_loss(decoder, pad([example.ids], [own]))
    assert right[1] == example.n_learned
    assert bad[1] == example.n_learned + 1
    assert bad[0].item() > right[0].item()
    # What stands after the last learned token can change neither loss nor gradient.
    longer = pad([(*example.ids, 7, 8)], [(*example.learned, False, False)])
    assert summed_loss(decoder, longer)[0].item() == pytest.approx(right[0].item(), rel=1e-12)


def first(lengths: Sequence[int], n: int, **changes: object) -> list[list[int]]:
    return list(itertools.islice(batches(lengths, TrainSettings(**changes)), n))  # type: ignore[arg-type]


def test_every_epoch_sees_every_example_once_in_a_new_order() -> None:
    """Ten examples, batches of four: three steps an epoch, or across its end; by tokens none over the bound."""
    lengths = list(range(3, 13))
    steps = first(lengths, 6, batch=4, seed=0)
    assert [len(step) for step in steps] == [4, 4, 2, 4, 4, 2]
    one, two = (functools.reduce(operator.iadd, part, []) for part in (steps[:3], steps[3:]))
    assert sorted(one) == sorted(two) == list(range(10))
    assert one != two
    assert steps == first(lengths, 6, batch=4, seed=0) != first(lengths, 6, batch=4, seed=1)
    across = first(lengths, 5, batch=4, seed=0, whole_epochs=False)
    assert functools.reduce(operator.iadd, across, []) == one + two
    by_tokens = first(lengths, 4, batch_tokens=20, seed=0)
    assert all(len(step) == 1 or sum(lengths[index] for index in step) <= 20 for step in by_tokens)
    n_steps, n_epoch = count_steps(lengths, TrainSettings(batch_tokens=20, epochs=2, seed=0))
    assert (n_steps, sum(map(len, first(lengths, n_epoch, batch_tokens=20, seed=0)))) == (2 * n_epoch, 10)
    assert count_steps(lengths, TrainSettings(batch=4, epochs=1.5)) == (4, 3)
    assert count_steps(lengths, TrainSettings(batch=4, steps=7)) == (7, 3)
    assert count_steps(lengths, TrainSettings(batch=100, epochs=0.01)) == (1, 1)
    for cut in ({"batch": 4}, {"batch": 32}, {"batch_tokens": 20}):
        on = {**cut, "seed": 0, "whole_epochs": False}
        n_steps, _ = count_steps(lengths, TrainSettings(epochs=20, **on))  # type: ignore[arg-type]
        assert sum(map(len, first(lengths, n_steps, **on))) == pytest.approx(200, abs=20)


@pytest.mark.parametrize(
    ("changes", "expected"),
    [
        ({"warm_up": 0.2}, {0: 0.2, 3: 0.8, 4: 1.0, 9: 0.1 + 0.9 * (1 + math.cos(math.pi / 3)) / 2, 19: 0.1}),
        ({"warm_up": 4}, {0: 0.2, 3: 0.8, 4: 1.0, 19: 0.1}),
        ({"warm_up": 0, "schedule": "linear"}, {0: 1.0, 19: 0.1, 10: 0.1 + 0.9 * 9 / 19}),
        ({"warm_up": 0.2, "schedule": "constant"}, {0: 0.2, 4: 1.0, 19: 1.0}),
        ({"warm_up": 0, "cycles": 2}, {0: 1.0, 9: 0.1 + 0.9 * (1 + math.cos(math.pi * 18 / 19)) / 2, 19: 0.1}),
    ],
)
def test_the_rate_follows_its_schedule(changes: dict[str, object], expected: dict[int, float]) -> None:
    """By hand: 20 steps, down to a tenth; a second cycle begins at the full rate."""
    settings = TrainSettings(learning_rate=1.0, final=0.1, **changes)  # type: ignore[arg-type]
    rates = [rate_at(step, 20, settings) for step in range(20)]
    assert {step: rates[step] for step in expected} == pytest.approx(expected)
    if "cycles" in changes:
        assert rates[10] > 0.99
    assert rate_at(0, 1, TrainSettings(warm_up=0)) == TrainSettings().learning_rate


def test_validations_are_spread_and_the_last_step_is_one() -> None:
    """Also where there are fewer steps than validations; by steps and by shares of an epoch."""
    assert check_steps(100, 50, TrainSettings(validations=4)) == {25, 50, 75, 100}
    assert max(check_steps(3, 3, TrainSettings(validations=8))) == 3
    assert check_steps(10, 5, TrainSettings(validate_every=4)) == {4, 8, 10}
    assert check_steps(10, 8, TrainSettings(validate_every=0.5)) == {4, 8, 10}


SETTINGS = TrainSettings(epochs=6, batch=4, micro_batch=3, learning_rate=2e-2, validations=4)


def run(
    examples: list[Example], settings: TrainSettings, dropout: float = 0.1, **more: Any
) -> tuple[list[TrainEvent], list[torch.Tensor]]:
    decoder = tiny_decoder(torch.float32)
    adapter = attach(decoder, AdapterSettings(rank=4, seed=0, dropout=dropout))
    events = list(train_adapter(decoder, adapter, examples, examples[:3], settings, **more))
    return events, [factor.detach().clone() for factor in adapter.parameters]


def test_training_lowers_the_loss_and_says_what_happened(examples: list[Example]) -> None:
    """Started, every step, four validations with the best marked, finished; the same seed gives the same bytes."""
    events, factors = run(examples, SETTINGS)
    steps = [event for event in events if isinstance(event, Stepped)]
    checks = [event for event in events if isinstance(event, Checked)]
    assert isinstance(events[0], Started)
    assert events[0].n_steps == len(steps) == 18
    assert steps[-1].loss < 0.6 * steps[0].loss
    assert steps[-1].epoch == 6
    assert steps[-1].n_tokens == 6 * sum(len(example.ids) for example in examples)
    lowest = min(checks, key=lambda check: check.validation_loss)
    end = events[-1]
    assert isinstance(end, Finished)
    assert (end.best_step, end.best_validation_loss) == (lowest.step, lowest.validation_loss)
    assert next(check.best for check in checks) is True
    again = run(examples, SETTINGS)[1]
    assert all(torch.equal(a, b) for a, b in zip(factors, again, strict=True))
    other = run(examples, TrainSettings(**{**vars(SETTINGS), "seed": 0}))[1]
    assert not all(torch.equal(a, b) for a, b in zip(factors, other, strict=True))


def of(events: Sequence[TrainEvent], kind: type[E]) -> list[E]:
    return [event for event in events if isinstance(event, kind)]


VARIED = TrainSettings(
    epochs=6,
    batch_tokens=40,
    micro_batch=3,
    learning_rate=2e-2,
    noise=2.0,
    averaging=0.8,
    smoothing=0.1,
    recompute=True,
)


@pytest.mark.parametrize(
    ("varied", "dropout"), [(SETTINGS, 0.1), (VARIED, 0.1), (SETTINGS, 0.0)], ids=["plain", "varied", "single nodes"]
)
def test_a_resumed_training_ends_as_one_that_never_stopped(
    examples: list[Example], varied: TrainSettings, dropout: float
) -> None:
    """Bit for bit from every third step, dropout and noise drawn on; without its moments it differs: the control."""
    settings = dataclasses.replace(varied, checkpoint_every=3)
    kept: list[Snapshot] = []
    decoder = tiny_decoder(torch.float32)
    adapter = attach(decoder, AdapterSettings(rank=4, seed=0, dropout=dropout))
    whole: list[TrainEvent] = []
    for event in train_adapter(decoder, adapter, examples, examples[:3], settings):
        whole.append(event)
        if isinstance(event, Due):
            kept.append(event.snapshot())
    factors = [factor.detach().clone() for factor in adapter.parameters]
    assert len(kept) > 4
    for snapshot in kept:
        events, again = run(examples, settings, dropout, resume=snapshot)
        assert all(torch.equal(a, b) for a, b in zip(factors, again, strict=True))
        before = snapshot.counts["step"]
        assert [e.loss for e in of(events, Stepped)] == [e.loss for e in of(whole, Stepped) if e.step > before]
        assert of(events, Finished)[0].best_validation_loss == of(whole, Finished)[0].best_validation_loss
    poor = Snapshot({n: t for n, t in kept[1].tensors.items() if not n.endswith("exp_avg")}, kept[1].counts)
    poor.tensors.update({n: torch.zeros_like(t) for n, t in kept[1].tensors.items() if n.endswith("exp_avg")})
    assert not all(
        torch.equal(a, b) for a, b in zip(factors, run(examples, settings, dropout, resume=poor)[1], strict=True)
    )


def test_auto_takes_the_smallest_passes_that_are_fast(monkeypatch: pytest.MonkeyPatch) -> None:
    """As many examples, a power of two, as come to enough tokens; one where rows are long; at most the batch.

    More where examples begin alike, which is computed once in a pass: with 60 tokens of all and 9 of each, 32 at a time
    come to 696, within a tenth of the 636 of all at once, and 16 to 816. Side by side nothing is shared: the control.
    That the first batch has no pair by which the best could be found does not matter.
    """
    auto = dataclasses.replace(SETTINGS, batch=64, micro_batch="auto")
    apart = [Example(n, (n, *range(9)), ((1, 10),)) for n in range(64)]
    alike = [Example(n, (*range(60), *one.ids), ((61, 70),)) for n, one in enumerate(apart)]
    side_by_side = dataclasses.replace(auto, packing=False)
    cases = [(apart, auto, enough, n) for enough, n in ((31, 4), (36, 4), (9, 1), (1000, 64))]
    cases += [(apart, dataclasses.replace(auto, objective="unpaired", best_by="margin"), 9, 1)]
    cases += [(alike, chosen, 9, n) for chosen, n in ((auto, 32), (side_by_side, 1))]
    for examples, chosen, enough, n in cases:
        monkeypatch.setattr(fitting, "_ENOUGH_TOKENS", enough)
        assert fast_micro_batch(first_steps(examples, chosen), chosen) == n


def test_a_training_ends_early_when_it_is_told_to(examples: list[Example]) -> None:
    """By patience, by time, by a wish; each with a checkpoint of its last step and the reason.

    One whose patience was spent when it was stopped makes no step more as it goes on.
    """
    hopeless = TrainSettings(
        epochs=20, batch=4, micro_batch=4, learning_rate=1e-9, validate_every=1, patience=2, best_by="accuracy"
    )
    events, _ = run(examples, hopeless)
    end = of(events, Finished)[0]
    assert (end.reason, end.step, end.best_step) == ("no better", 3, 1)
    assert of(events, Due)[-1].step == 3
    resumed, _ = run(examples, hopeless, resume=of(events, Due)[-1].snapshot())
    assert (of(resumed, Finished)[0].reason, of(resumed, Stepped)) == ("no better", [])
    short, _ = run(examples, TrainSettings(epochs=1000, batch=4, micro_batch=4, minutes=1e-4))
    end = of(short, Finished)[0]
    assert (end.reason, end.step < 3000) == ("out of time", True)
    assert of(short, Checked)[-1].step == end.step
    asked, _ = run(examples, SETTINGS, stop=iter([False, False, True]).__next__)
    assert (of(asked, Finished)[0].reason, of(asked, Due)[-1].step, len(of(asked, Stepped))) == ("stopped", 3, 3)


def test_a_validation_is_stopped_and_made_when_the_training_goes_on(examples: list[Example]) -> None:
    """Asked at any moment, the same bytes and validations come of it; one that is left out shows: the control."""
    settings = TrainSettings(steps=4, batch=4, micro_batch=1, validations=2, averaging=0.8)
    whole, factors = run(examples, settings)
    waiting = []
    for n_asked in range(20):
        events, _ = run(examples, settings, stop=iter([*[False] * n_asked, True]).__next__)
        if of(events, Finished)[0].reason == "done":
            break
        snapshot = of(events, Due)[-1].snapshot()
        again, ended = run(examples, settings, resume=snapshot)
        checks = [
            (check.step, check.validation_loss, check.best) for check in (*of(events, Checked), *of(again, Checked))
        ]
        assert checks == [(check.step, check.validation_loss, check.best) for check in of(whole, Checked)]
        assert all(torch.equal(a, b) for a, b in zip(factors, ended, strict=True))
        if snapshot.counts["checked_step"] < snapshot.counts["step"] in (2, 4):
            waiting.append(snapshot)
    assert len(waiting) == 6  # at the step and after two of three passes, twice
    assert n_asked == 8
    waiting[0].counts["checked_step"] = 2
    assert len(of(run(examples, settings, resume=waiting[0])[0], Checked)) == 1


@pytest.mark.parametrize(("seconds", "n_steps", "ends"), [(60.2, 40, 61.0), (30.5, 16, 37.0), (0.0, 80, 101.0)])
def test_minutes_hold_the_last_validation_too(
    examples: list[Example], monkeypatch: pytest.MonkeyPatch, seconds: float, n_steps: int, ends: float
) -> None:
    """By a clock that steps and validations turn: one that takes long leaves half of the time to steps."""
    clock = 0.0

    def turned(by: float, of: Any) -> Any:
        def call(*args: Any, **named: Any) -> Any:
            nonlocal clock
            clock += by
            return of(*args, **named)

        return call

    monkeypatch.setattr("foldkit.training.loop.time.perf_counter", lambda: clock)
    monkeypatch.setattr(Stepper, "gradient", turned(1.0, Stepper.gradient))
    monkeypatch.setattr("foldkit.training.loop.tallies", turned(21.0, tallies))
    decoder = tiny_decoder(torch.float32)
    settings = TrainSettings(steps=80, batch=4, micro_batch=4, validations=1, minutes=seconds / 60)
    adapter, checked = attach(decoder, AdapterSettings(rank=4)), examples * 21  # a third of the tokens of 63 steps
    events = list(train_adapter(decoder, adapter, examples, checked, settings))
    end, third = of(events, Finished)[0], of(events, Stepped)[2]  # an epoch has three
    assert (end.step, end.seconds) == (n_steps, ends)
    assert [event.n_done for event in of(events, Checking)] == [1]
    assert of(events, Due)[-1].snapshot().counts["check_seconds"] == 21
    assert third.to_go == pytest.approx(77 + 21 if not seconds else max(seconds, ends - 1) - 3, abs=1.0)
    twice = dataclasses.replace(settings, steps=8, validations=2, minutes=0.0)
    assert of(list(train_adapter(decoder, adapter, examples, checked, twice)), Stepped)[4].to_go == 3 + 21


@pytest.mark.parametrize("seconds", [400.0, 0.01])
def test_ten_minutes_are_the_most_that_is_not_kept(
    examples: list[Example], monkeypatch: pytest.MonkeyPatch, seconds: float
) -> None:
    """By a clock that goes on by so much each time it is read, twice a step at least; the control is a fast one."""
    clock = itertools.count(step=seconds)
    monkeypatch.setattr("foldkit.training.loop.time.perf_counter", lambda: float(next(clock)))
    events, _ = run(examples, TrainSettings(steps=9, batch=5, micro_batch=5, validations=1))
    # The last one is kept before its validation too, which may take as long.
    assert [event.step for event in of(events, Due)] == ([*range(1, 10), 9] if seconds > 300 else [9])


@pytest.mark.parametrize("figure", [name for name in BEST_BY if name not in ("ranked", "margin")])
def test_the_best_is_by_the_figure_that_was_named(examples: list[Example], figure: str) -> None:
    """The validation whose figure, or that of the step before it, is the least, or the most where that is better."""
    events, _ = run(examples, dataclasses.replace(SETTINGS, best_by=figure, validate_every=2, learning_rate=0.3))
    own = {"loss": "validation_loss", "accuracy": "validation_accuracy"}
    named = {"train_loss": "loss", "train_accuracy": "token_accuracy"}
    steps = {event.step: event for event in of(events, Stepped)}
    if figure in own:
        found = {check.step: getattr(check, own[figure]) for check in of(events, Checked)}
    else:
        found = {check.step: getattr(steps[check.step], named.get(figure, figure)) for check in of(events, Checked)}
    best = (max if BEST_BY[figure] else min)(found, key=found.__getitem__)
    assert of(events, Finished)[0].best_step == best


def test_what_is_only_for_training_leaves_validation_alone(examples: list[Example]) -> None:
    """At a rate of nothing, smoothing and noise change the training's loss and not the validation's.

    With noise no example goes on after another's beginning, whose noise would be that one's.
    """
    batches_with_noise = micro_batches(examples, TrainSettings(micro_batch=10, noise=2.0))
    assert not any(piece.before for batch in batches_with_noise for piece in batch.pieces)
    still = TrainSettings(epochs=1, batch=10, micro_batch=5, learning_rate=1e-9, validations=1)
    plain, _ = run(examples, still)
    for changes in ({"smoothing": 0.3}, {"noise": 20.0}):
        changed, _ = run(examples, dataclasses.replace(still, **changes))  # type: ignore[arg-type]
        assert of(changed, Checked)[0].validation_loss == pytest.approx(of(plain, Checked)[0].validation_loss, rel=1e-6)
        assert of(changed, Stepped)[0].loss != pytest.approx(of(plain, Stepped)[0].loss, rel=1e-4)


def test_noise_is_even_within_its_published_bound(examples: list[Example]) -> None:
    """Within alpha / sqrt(tokens of the example * d_model), packed or padded."""
    decoder, alpha = tiny_decoder(torch.float64), 5.0
    torch.manual_seed(0)
    lengths = sorted((len(example.ids) - 1 for example in examples), reverse=True)
    for packing in (True, False):
        (batch,) = micro_batches(examples, TrainSettings(micro_batch=len(examples), noise=alpha, packing=packing))
        plain = decoder.embedding(batch.ids)
        with noisy(decoder, batch, alpha):
            added = (decoder.embedding(batch.ids) - plain).detach()
        rows = added[0].split(lengths) if packing else [row[:n] for row, n in zip(added, lengths, strict=True)]
        shares = torch.cat(
            [row.flatten() * math.sqrt(n * decoder.spec.d_model) / alpha for row, n in zip(rows, lengths, strict=True)]
        )
        assert_even(shares)
    assert torch.equal(decoder.embedding(batch.ids), plain)


def test_the_average_is_what_is_validated_and_saved(examples: list[Example]) -> None:
    """At a validation the adapter is the weighted mean of its steps, by hand; afterwards it is itself again.

    Where it began has no part in that mean: with it, it would be another one, which is the control.
    """
    settings = TrainSettings(
        epochs=2, batch=5, micro_batch=5, validate_every=1, averaging=0.5, learning_rate=1e-2, checkpoint_every=1
    )
    decoder = tiny_decoder(torch.float32)
    adapter = attach(decoder, AdapterSettings(rank=2, seed=0))
    began = torch.cat([factor.detach().flatten() for factor in adapter.parameters])
    steps: list[torch.Tensor] = []
    for event in train_adapter(decoder, adapter, examples, examples[:3], settings):
        own = torch.cat([factor.detach().flatten() for factor in adapter.parameters])
        if isinstance(event, Stepped):
            steps.append(own)
        if isinstance(event, Checked):
            counts = [0.5**n for n in reversed(range(len(steps)))]
            summed = torch.stack([count * step for count, step in zip(counts, steps, strict=True)]).sum(0)
            torch.testing.assert_close(own, summed / sum(counts))
            assert not torch.allclose(own, 0.5 ** len(steps) * began + 0.5 * summed)
    assert len(steps) > 2
    assert torch.equal(own, steps[-1])


def test_the_optimiser_is_adamw_as_published() -> None:
    """Three steps by hand, in numpy and float64 to 1e-9: decay apart from the moments, and of A and B alone.

    B is faster, what is trained whole slower, what has no gradient stays. Without the correction of the moments they
    differ: the control.
    """
    adapter = attach(tiny_decoder(torch.float64), AdapterSettings(rank=3, magnitude=True, full=("embedding",)))
    settings = TrainSettings(weight_decay=0.2, beta1=0.8, beta2=0.9, rate_ratio=4.0, full_ratio=0.5)
    trained, optimiser, draw = adapter.trained(), Optimiser(adapter, settings), np.random.default_rng(0)
    left = next(iter(trained))
    before = trained[left].detach().clone()
    hand = {name: [value.detach().numpy().copy(), 0.0, 0.0] for name, value in trained.items()}
    for step, rate in enumerate((0.1, 0.05, 0.2), 1):
        for name, value in trained.items():
            g = draw.normal(size=value.shape)
            value.grad = None if name == left else torch.tensor(g)
            w, m, v = hand[name]
            m, v = 0.8 * m + 0.2 * g, 0.9 * v + 0.1 * g**2
            own = rate * (4.0 if name.endswith(".B") else 0.5 if name == "embedding" else 1.0)
            decay = 0.2 if name.endswith((".A", ".B")) else 0.0
            moved = own * (m / (1 - 0.8**step)) / (np.sqrt(v / (1 - 0.9**step)) + 1e-8)
            hand[name] = [w - own * decay * w - moved, m, v]
        optimiser.step(rate)
    assert torch.equal(trained.pop(left), before)
    for name, value in trained.items():
        np.testing.assert_allclose(value.detach().numpy(), hand[name][0], rtol=1e-9, atol=1e-12)
    assert {name.rpartition(".")[2] for name in trained} == {"A", "B", "magnitude", "embedding"}
    assert np.abs(hand[name][0] - (w - own * decay * w - own * m / (np.sqrt(v) + 1e-8))).max() > 1e-3
    optimiser.drop()
    assert all(value.grad is None for value in trained.values())


def test_an_update_is_measured_against_all_that_is_trained(
    examples: list[Example], monkeypatch: pytest.MonkeyPatch
) -> None:
    """The length of what moved over that of what there is then, by NumPy, a few numbers at a time or all at once."""
    ratios = []
    for at_once in (7, 1 << 20):
        monkeypatch.setattr("foldkit.training.stepping._AT_ONCE", at_once)
        decoder, adapter = with_adapter()
        stepper = Stepper(decoder, adapter, SETTINGS, ReplyObjective(SETTINGS))
        before = np.concatenate([factor.detach().numpy().ravel() for factor in adapter.parameters])
        stepper.gradient(stepper.passes(examples[:4]))
        ratio = stepper.update(1e-2)
        after = np.concatenate([factor.detach().numpy().ravel() for factor in adapter.parameters])
        assert ratio == pytest.approx(np.linalg.norm(after - before) / np.linalg.norm(after), rel=1e-9)
        assert ratio > 1e-3
        ratios.append(ratio)
    assert ratios[0] == pytest.approx(ratios[1], rel=1e-12)


def test_the_second_factor_has_a_rate_of_its_own(examples: list[Example]) -> None:
    """One step of Adam moves every number by its rate: B by `rate_ratio` times A's, once B is not nothing."""
    decoder, adapter = with_adapter(torch.float32)
    before = {name: value.clone() for name, value in adapter.tensors().items()}
    settings = TrainSettings(
        epochs=1, batch=10, micro_batch=5, learning_rate=1e-3, rate_ratio=16, warm_up=0, validations=1
    )
    list(train_adapter(decoder, adapter, examples, examples[:3], settings))
    moved = {name: float((value - before[name]).abs().median()) for name, value in adapter.tensors().items()}
    for name in adapter.maps:
        assert moved[f"{name}.B"] / moved[f"{name}.A"] == pytest.approx(16, rel=0.02)


def test_a_bad_step_stops_with_its_rows_or_is_left_out(examples: list[Example]) -> None:
    """Not a number, or a runaway loss; the last good state is offered first; a part without rows is refused."""
    decoder = tiny_decoder(torch.float32)
    adapter = attach(decoder, AdapterSettings())
    adapter.parameters[-1].data.fill_(float("nan"))
    seen: list[TrainEvent] = []
    with pytest.raises(FoldKitError, match=r"step 1: loss nan, gradient norm nan on rows \d+, \d+"):
        seen += train_adapter(decoder, adapter, examples, examples, SETTINGS)
    skip = dataclasses.replace(SETTINGS, bad_steps="skip", validate_every=1, best_by="train_loss", patience=12)
    found = list[Checked]()
    for event in train_adapter(decoder, adapter, examples, examples, skip):
        found += [event] if isinstance(event, Checked) else []
        if len(found) == 2:
            adapter.parameters[-1].data.zero_()
    assert [event.best for event in found[:3]] == [False, False, True]
    with pytest.raises(InputError, match="rows in validation"):
        list(train_adapter(decoder, adapter, examples, [], SETTINGS))
    for wrong in ({"learning_rate": float("nan")}, {"seed": 2**31}, {"cycles": 2, "schedule": "constant"}):
        with pytest.raises(UsageError, match=next(iter(wrong))):
            TrainSettings(**wrong)  # type: ignore[arg-type]
    wild = dataclasses.replace(SETTINGS, runaway=0.9, bad_steps="skip", learning_rate=1e-9)
    events, _ = run(examples, wild)
    skipped = of(events, Skipped)
    assert len(skipped) + len(of(events, Stepped)) == 18
    assert skipped
    assert "times the smoothed one" in skipped[0].reason
    hopeless, kept = dataclasses.replace(wild, runaway=1e-3, checkpoint_every=1), list[Snapshot]()
    decoder = tiny_decoder(torch.float32)
    training = train_adapter(decoder, attach(decoder, AdapterSettings(rank=4)), examples, examples, hopeless)
    with pytest.raises(FoldKitError, match=r"the 10 steps up to 11 were all bad, the last: loss .*; the adapter"):
        kept.extend(event.snapshot() for event in training if isinstance(event, Due))
    for n, snapshot in enumerate(kept[-2:], 10):
        with pytest.raises(FoldKitError, match=f"the {n} steps up to {n + 1} were all bad"):
            run(examples, hopeless, resume=snapshot)
    assert skipped[0].rows
    assert of(events, Finished)[0].n_skipped == len(skipped)
