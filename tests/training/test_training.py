"""The laws of a gradient step, the schedule, and the loop."""

from __future__ import annotations

import functools
import math
import operator
from collections.abc import Sequence

import numpy as np
import pytest
import torch

from foldkit.adapters import Adapter, AdapterSettings, attach
from foldkit.datasets import Example
from foldkit.formats import FoldKitError, InputError, UsageError
from foldkit.models import Decoder, pad
from foldkit.training import Checked, Finished, Started, Stepped, TrainSettings, rate_at, summed_loss, train_adapter
from foldkit.training.batches import batches, micro_batches
from foldkit.training.loop import check_steps

from ..conftest import tiny_decoder
from ..models.oracle import logits as oracle_logits


def with_adapter(dtype: torch.dtype = torch.float64, *, n: int = 1) -> tuple[Decoder, Adapter]:
    decoder = tiny_decoder(dtype)
    adapter = attach(decoder, AdapterSettings(rank=3, seed=n))
    for factor in adapter.parameters:
        factor.data.normal_(0, 0.2, generator=torch.Generator().manual_seed(n))
    return decoder, adapter


def gradient(examples: Sequence[Example], size: int, dtype: torch.dtype = torch.float64) -> list[torch.Tensor]:
    """Return the gradient of the batch's mean loss, the batch divided into pieces of `size`."""
    decoder, adapter = with_adapter(dtype)
    pieces = micro_batches(examples, size)
    n_learned = sum(example.n_learned for example in examples)
    for piece in pieces:
        (summed_loss(decoder, piece)[0] / n_learned).backward()  # type: ignore[no-untyped-call]
    return [factor.grad.clone() for factor in adapter.parameters if factor.grad is not None]


def furthest(first: Sequence[torch.Tensor], second: Sequence[torch.Tensor]) -> float:
    """Return the largest relative distance of two gradients, by their norm."""
    return max(float((a - b).norm() / b.norm()) for a, b in zip(first, second, strict=True))


@pytest.mark.parametrize(("dtype", "tolerance"), [(torch.float64, 1e-9), (torch.float32, 1e-5)])
def test_the_gradient_does_not_change_with_micro_batch_or_padding(
    examples: list[Example], dtype: torch.dtype, tolerance: float
) -> None:
    """All at once, in threes, one at a time (which has no padding). A mean of means differs: the control."""
    whole = gradient(examples, 10, dtype)
    assert len(whole) == 28
    for size in (1, 3):
        assert furthest(gradient(examples, size, dtype), whole) < tolerance
    decoder, adapter = with_adapter(dtype)
    for piece in micro_batches(examples, 3):
        loss, n, _ = summed_loss(decoder, piece)
        (loss / n / 4).backward()  # type: ignore[no-untyped-call]
    wrong = [factor.grad for factor in adapter.parameters if factor.grad is not None]
    assert furthest(wrong, whole) > 1e-3


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
    loss, n, _ = summed_loss(decoder, micro_batches(examples[:3], 3)[0])
    assert n == n_expected
    assert loss.item() == pytest.approx(expected, rel=1e-9)


def test_the_gradient_is_that_of_finite_differences(examples: list[Example]) -> None:
    """Central differences of the loss along a random direction, float64, 1e-6 relative."""
    grads = gradient(examples, 10)
    decoder, adapter = with_adapter()
    n_learned = sum(example.n_learned for example in examples)
    draw = torch.Generator().manual_seed(8)
    ways = [torch.randn(f.shape, generator=draw, dtype=torch.float64) for f in adapter.parameters]

    def moved(step: float) -> float:
        for factor, way in zip(adapter.parameters, ways, strict=True):
            factor.data.add_(way, alpha=step)
        loss = summed_loss(decoder, micro_batches(examples, 10)[0])[0].item() / n_learned
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


def test_every_epoch_sees_every_example_once_in_a_new_order() -> None:
    """Ten examples, batches of four: three steps an epoch."""
    steps = batches(10, 6, 4, seed=0)
    assert [len(step) for step in steps] == [4, 4, 2, 4, 4, 2]
    first, second = functools.reduce(operator.iadd, steps[:3], []), functools.reduce(operator.iadd, steps[3:], [])
    assert sorted(first) == sorted(second) == list(range(10))
    assert first != second
    assert steps == batches(10, 6, 4, seed=0) != batches(10, 6, 4, seed=1)


def test_the_rate_warms_up_and_falls_as_half_a_cosine() -> None:
    """By hand: 20 steps, a fifth of them warm-up, down to a tenth."""
    settings = TrainSettings(learning_rate=1.0, warm_up=0.2, final=0.1)
    rates = [rate_at(step, 20, settings) for step in range(20)]
    assert rates[:4] == pytest.approx([0.2, 0.4, 0.6, 0.8])
    assert rates[4] == pytest.approx(1.0)
    assert rates[-1] == pytest.approx(0.1)
    assert rates[4 + 5] == pytest.approx(0.1 + 0.9 * (1 + math.cos(math.pi / 3)) / 2)
    assert rate_at(0, 1, TrainSettings(warm_up=0)) == TrainSettings().learning_rate


def test_validations_are_spread_and_the_last_step_is_one() -> None:
    """Also where there are fewer steps than validations."""
    assert check_steps(100, 4) == {25, 50, 75, 100}
    assert max(check_steps(3, 8)) == 3


SETTINGS = TrainSettings(epochs=6, batch=4, micro_batch=3, learning_rate=2e-2, validations=4)


def run(examples: list[Example], settings: TrainSettings) -> tuple[list[object], list[torch.Tensor]]:
    decoder = tiny_decoder(torch.float32)
    adapter = attach(decoder, AdapterSettings(rank=4, seed=0))
    events: list[object] = list(train_adapter(decoder, adapter, examples, examples[:3], settings))
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


def test_a_loss_that_is_no_number_stops_with_its_rows(examples: list[Example]) -> None:
    """The rows of the batch are named, and a part without rows is refused."""
    decoder = tiny_decoder(torch.float32)
    adapter = attach(decoder, AdapterSettings())
    adapter.parameters[-1].data.fill_(float("nan"))
    with pytest.raises(FoldKitError, match=r"step 1: loss nan, gradient norm nan on rows \d+, \d+"):
        list(train_adapter(decoder, adapter, examples, examples, SETTINGS))
    with pytest.raises(InputError, match="rows in validation"):
        list(train_adapter(decoder, adapter, examples, [], SETTINGS))
    with pytest.raises(UsageError, match="learning_rate"):
        TrainSettings(learning_rate=float("nan"))
