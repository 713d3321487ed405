"""Objectives of pairs: derivations, closed forms, slopes; two replies after one prompt; the reference."""

from __future__ import annotations

import dataclasses
import functools
import itertools
import math
import random
from collections import ChainMap

import numpy as np
import pytest
import torch

from foldkit.adapters import AdapterSettings, attach
from foldkit.datasets import Example
from foldkit.formats import InputError, UsageError
from foldkit.models import Decoder, Replies, pack_replies, pad, reply_log_probs, token_losses
from foldkit.training import (
    OBJECTIVES,
    Checked,
    Finished,
    LogProbs,
    Stepped,
    TrainSettings,
    forecast,
    forecasting,
    objective_for,
    pair_objective,
    reference_values,
    train_adapter,
)
from foldkit.training.batches import check_parts
from foldkit.training.pair_notes import length_note, pair_notes
from foldkit.training.pair_objective import Neighbours, PairObjective
from foldkit.training.preferences import log_rest
from foldkit.training.settings import STRENGTHS, PairSettings
from foldkit.training.stepping import Stepper
from foldkit.training.team import Team

from ..conftest import tiny_decoder
from .test_training import furthest, of, with_adapter

PAIRS = PairSettings(strength=0.7, doubt=0.1, margin=0.5, good=1.5, bad=0.5)
BASELINE = 0.3


def pairs(n: int = 6, seed: int = 3) -> list[Example]:
    """Return rows with two replies of different lengths each."""
    rng = random.Random(seed)
    made = []
    for row in range(1, n + 1):
        prompt, chosen, rejected = (
            tuple(rng.randrange(320) for _ in range(rng.randint(*size))) for size in ((2, 12), (1, 7), (1, 7))
        )
        start = len(prompt)
        made.append(Example(row, prompt + chosen, ((start, start + len(chosen)),), rejected))
    return made


def drawn(n: int = 7, seed: int = 1) -> tuple[LogProbs, LogProbs]:
    """Return log-probabilities of a model and of its reference, in float64, some of them close to 0."""
    draw = np.random.default_rng(seed)
    lengths = [torch.tensor(draw.integers(1, 9, n)) for _ in range(2)]
    found = []
    for _ in range(2):
        sums = [-lengths[side] * torch.tensor(draw.gamma(0.5, 2.0, n) + 1e-9) for side in range(2)]
        found.append(LogProbs(*sums, *lengths))
    return found[0], found[1]


def by_numpy(name: str, policy: LogProbs, reference: LogProbs, settings: PairSettings) -> float:
    """Return the summed loss from the papers' formulas as they stand, with plain probabilities."""
    (pi_w, pi_l, n_w, n_l), (ref_w, ref_l, _, _) = ([part.numpy() for part in side] for side in (policy, reference))
    sigmoid, b = (lambda x: 1 / (1 + np.exp(-x))), settings.strength_of(name)
    ratio_w, ratio_l = np.exp(pi_w) / np.exp(ref_w), np.exp(pi_l) / np.exp(ref_l)
    if name == "odds":
        p_w, p_l = np.exp(pi_w) ** (1 / n_w), np.exp(pi_l) ** (1 / n_l)
        odds_ratio = (p_w / (1 - p_w)) / (p_l / (1 - p_l))
        losses = -np.log(p_w) - b * np.log(sigmoid(np.log(odds_ratio)))
    elif name == "direct":
        either = ratio_w**b + ratio_l**b
        losses = -(1 - settings.doubt) * np.log(ratio_w**b / either) - settings.doubt * np.log(ratio_l**b / either)
    elif name == "identity":
        losses = (np.log(ratio_w / ratio_l) - 1 / (2 * b)) ** 2
    elif name == "margin":
        losses = -np.log(sigmoid(b / n_w * pi_w - b / n_l * pi_l - settings.margin))
    else:
        value_w = settings.good * sigmoid(b * (np.log(ratio_w) - BASELINE))
        value_l = settings.bad * sigmoid(b * (BASELINE - np.log(ratio_l)))
        losses = (settings.good - value_w) + (settings.bad - value_l)
    return float(losses.sum())


@pytest.mark.parametrize("name", OBJECTIVES)
def test_every_objective_is_the_papers_formula(name: str) -> None:
    """Against NumPy, 1e-9; its slope by central differences; with the replies swapped it differs: the control."""
    policy, reference = drawn()
    expected = by_numpy(name, policy, reference, PAIRS)
    assert OBJECTIVES[name](policy, reference, PAIRS, BASELINE).total.item() == pytest.approx(expected, rel=1e-9)
    swapped = LogProbs(policy.rejected, policy.chosen, policy.n_rejected, policy.n_chosen)
    assert OBJECTIVES[name](swapped, reference, PAIRS, BASELINE).total.item() != pytest.approx(expected, rel=1e-3)
    sides = [side.clone().requires_grad_() for side in policy[:2]]
    OBJECTIVES[name](LogProbs(*sides, *policy[2:]), reference, PAIRS, BASELINE).total.backward()  # type: ignore[no-untyped-call]
    for index, side in enumerate(sides):
        for place in range(len(side)):
            slopes = []
            for step in (1e-7, -1e-7):
                moved = [other.detach().clone() for other in sides]
                moved[index][place] += step
                found = OBJECTIVES[name](LogProbs(*moved, *policy[2:]), reference, PAIRS, BASELINE).total.item()
                slopes.append(found / (2 * step))
            assert side.grad is not None
            assert side.grad[place].item() == pytest.approx(sum(slopes), rel=1e-5, abs=1e-6)


def test_closed_forms_at_the_start() -> None:
    """The model is the reference: ln 2; equal replies: the plain loss and strength times ln 2; and so on by hand."""
    policy, _ = drawn()
    plain = dataclasses.replace(PAIRS, doubt=0.0)
    assert OBJECTIVES["direct"](policy, policy, plain, 0.0).total.item() == pytest.approx(7 * math.log(2), rel=1e-12)
    equal = LogProbs(policy.chosen, policy.chosen, policy.n_chosen, policy.n_chosen)
    expected = float((-policy.chosen / policy.n_chosen).sum()) + 7 * 0.7 * math.log(2)
    assert OBJECTIVES["odds"](equal, equal, plain, 0.0).total.item() == pytest.approx(expected, rel=1e-12)
    assert OBJECTIVES["identity"](policy, policy, plain, 0.0).total.item() == pytest.approx(7 / 1.4**2, rel=1e-12)
    assert OBJECTIVES["margin"](equal, equal, plain, 0.0).total.item() == pytest.approx(7 * math.log1p(math.e**0.5))
    assert OBJECTIVES["unpaired"](policy, policy, plain, 0.0).total.item() == pytest.approx(7 * (0.75 + 0.25))
    assert {name: PairSettings().strength_of(name) for name in OBJECTIVES} == STRENGTHS


def test_the_rest_of_a_probability_is_exact_at_both_ends() -> None:
    """log(1 - e^x) by its series near 0 and far below it; finite with its gradient at 0 itself."""
    found = log_rest(torch.tensor([-1e-12, -50.0, -math.log(2)], dtype=torch.float64))
    expected = [math.log(1e-12) - 5e-13, -math.exp(-50), -math.log(2)]
    torch.testing.assert_close(found, torch.tensor(expected, dtype=torch.float64), rtol=1e-11, atol=0)
    edge = torch.zeros(1, requires_grad=True)
    log_rest(edge).sum().backward()  # type: ignore[no-untyped-call]
    assert edge.grad is not None
    assert torch.isfinite(edge.grad).all()


@pytest.mark.parametrize("window", [0, 5])
def test_two_replies_after_one_prompt_are_two_passes(window: int) -> None:
    """Log-probabilities to 1e-9 as one at a time, padded; replies that see one another differ: the control."""
    decoder = tiny_decoder()
    decoder.spec = dataclasses.replace(decoder.spec, windows=(window, 0) if window else ())
    rows = pairs()
    batch = pack_replies([Replies(one.prompt, one.chosen, one.rejected) for one in rows], [one.row for one in rows])
    found, counts, n_hit = reply_log_probs(decoder, batch)
    for index, one in enumerate(rows):
        for side, reply in enumerate((one.chosen, one.rejected)):
            flags = [place >= len(one.prompt) for place in range(len(one.prompt) + len(reply))]
            losses, right = token_losses(decoder, pad([one.prompt + reply], [flags]))
            assert found[index, side].item() == pytest.approx(-sum(losses[0]), rel=1e-9)
            assert (int(counts[index, side]), int(n_hit[index, side])) == (len(reply), sum(right[0]))
    whole = [
        piece._replace(before=tuple((i, batch.pieces[i].n_tokens) for i, _ in piece.before)) for piece in batch.pieces
    ]
    seeing = dataclasses.replace(batch, pieces=tuple(whole))
    with pytest.raises((RuntimeError, AssertionError)):
        torch.testing.assert_close(reply_log_probs(decoder, seeing)[0], found)
    with pytest.raises(ValueError, match="at least one token"):
        pack_replies([Replies((), (1,), (2,))], [1])


def gradient(decoder: Decoder, adapter: object, settings: TrainSettings, **changes: object) -> list[torch.Tensor]:
    """Return the gradient of a batch of pairs against a reference of made-up values."""
    rows, settings = pairs(), dataclasses.replace(settings, clip=1e9, **changes)  # type: ignore[arg-type]
    reference = {one.row: (-20.0 - one.row, -21.0, -40.0) for one in rows}
    objective = objective_for(settings, rows, reference)
    stepper = Stepper(decoder, adapter, settings, objective)  # type: ignore[arg-type]
    stepper.gradient(stepper.passes(rows))
    return [factor.grad.clone() for factor in stepper.factors if factor.grad is not None]


@pytest.mark.parametrize("name", OBJECTIVES)
def test_the_gradient_of_pairs_does_not_change_with_their_passes(name: str) -> None:
    """One at a time, in one row, layers kept or computed again: 1e-9 in float64; another strength differs."""
    settings = TrainSettings(objective=name, micro_batch=1)
    alone = gradient(*with_adapter(), settings)
    assert len(alone) == 28
    for size in (2, 6):
        assert furthest(gradient(*with_adapter(), settings, micro_batch=size), alone) < 1e-9
    assert furthest(gradient(*with_adapter(), settings, micro_batch=6, recompute=True), alone) < 1e-9
    other = gradient(*with_adapter(), settings, pairs=PairSettings(strength=5.0))
    assert furthest(other, alone) > 1e-3


@pytest.mark.parametrize("name", ["direct", "unpaired"])
def test_processes_find_a_part_of_the_reference_each(name: str, monkeypatch: pytest.MonkeyPatch) -> None:
    """As many passes in each, the values those of one process; what is known is not found again; few at once or all."""
    decoder, rows, settings = tiny_decoder(), pairs(), TrainSettings(objective=name, micro_batch=2)
    whole = dict(ChainMap(*reference_values(decoder, rows, settings)))
    with monkeypatch.context() as patch:
        patch.setattr(pair_objective, "_AT_ONCE", 2)
        few = dict(ChainMap(*reference_values(decoder, rows, settings)))
    assert {row: pytest.approx(values, rel=1e-9) for row, values in few.items()} == whole
    shares = [list(reference_values(decoder, rows, settings, team=Team(rank, 4))) for rank in range(4)]
    assert {len(share) for share in shares} == {1}
    assert dict(ChainMap(*itertools.chain(*shares))) == whole
    known = {row: (float(row), 0.0, 0.0) for row in whole}
    assert dict(ChainMap(*reference_values(decoder, rows, settings, known))) == known
    del known[rows[0].row]
    found = list(reference_values(decoder, rows, settings, known))
    assert sum(part.items() <= whole.items() for part in found) == 1


@pytest.mark.parametrize("name", ["direct", "unpaired"])
def test_a_forecast_measures_steps_as_the_first_ones_are(name: str, monkeypatch: pytest.MonkeyPatch) -> None:
    """Against the model itself: against zeros the gradients of long replies were too small to be computed fast."""
    decoder, settings, margins = tiny_decoder(), TrainSettings(objective=name, batch=3, micro_batch=2), list[float]()

    def seconds_of(action: object, _: int) -> float:
        if isinstance(action, functools.partial):
            stepper, _, passes = action.args
            margins.append(stepper.gradient(passes).figures["margin"])
        return 1.0

    monkeypatch.setattr(forecasting, "_seconds_of", seconds_of)
    forecast(decoder, attach(decoder, AdapterSettings(rank=2)), pairs(), pairs(), settings, 10**9)
    assert margins == pytest.approx([0.0] * 3, abs=1e-9)


@pytest.mark.parametrize("name", OBJECTIVES)
def test_training_ranks_the_chosen_replies_first(name: str) -> None:
    """From a reference of its own start: the loss falls, all pairs come right, the log has every figure."""
    decoder = tiny_decoder(torch.float32)
    adapter = attach(decoder, AdapterSettings(rank=4, seed=0))
    settings = TrainSettings(
        objective=name, epochs=25, batch=6, micro_batch=3, learning_rate=2e-2, validations=5, best_by="ranked"
    )
    rows = pairs()
    reference = dict(ChainMap(*reference_values(decoder, rows, settings)))
    events = list(train_adapter(decoder, adapter, rows, rows, settings, reference=reference))
    steps, checks = of(events, Stepped), of(events, Checked)
    assert steps[-1].loss < steps[0].loss
    assert set(steps[0].figures) == set(checks[0].figures) >= {"margin", "ranked", "chosen_log_prob", "rejected_tokens"}
    # The identity form stops pulling a pair apart at a distance of its own, by whole replies.
    assert checks[-1].figures["ranked"] >= (0.8 if name == "identity" else 1)
    assert steps[-1].figures["margin"] > steps[0].figures["margin"]
    best = max(checks, key=lambda check: check.figures["ranked"])
    assert of(events, Finished)[0].best_step == best.step
    if name in ("direct", "identity"):
        assert steps[0].figures["margin"] == pytest.approx(0, abs=1e-4)


def test_rows_with_one_reply_alone_are_the_halves_of_pairs() -> None:
    """Loss and items of pairs taken apart are those of the pairs, 1e-9; without the bad halves, the control, not.

    Pairs alone have a margin; a training of halves goes down, and has the log-probabilities of each kind.
    """
    whole = pairs()
    good = [dataclasses.replace(one, rejected=()) for one in whole]
    bad = [Example(100 + one.row, one.prompt, ((len(one.prompt),) * 2,), one.rejected) for one in whole]
    settings, values = TrainSettings(objective="unpaired", micro_batch=3), (-20.0, -21.0, -40.0)
    decoder, totals = tiny_decoder(), []
    for rows in (whole, [*good, *bad], good):
        objective = PairObjective(settings, {one.row: values for one in rows}, Neighbours(rows), BASELINE)
        passes = objective.passes(rows)
        losses = [objective.loss(decoder, piece, training=True) for piece in passes]
        n_items = sum(loss.n_items for loss in losses)
        assert objective.n_items(passes) == n_items == (6 if rows is good else 12)
        assert sum(loss.sums["margin"][1] for loss in losses) == (6 if rows is whole else 0)
        totals.append(sum(loss.total.item() for loss in losses))
    assert totals[1] == pytest.approx(totals[0], rel=1e-9)
    assert totals[2] != pytest.approx(totals[0], rel=1e-3)
    single = tiny_decoder(torch.float32)
    adapter, halves = attach(single, AdapterSettings(rank=4, seed=0)), [*good, *bad]
    settings = dataclasses.replace(settings, epochs=15, batch=12, learning_rate=2e-2, validations=2)
    reference = dict(ChainMap(*reference_values(single, halves, settings)))
    steps = of(list(train_adapter(single, adapter, halves, bad, settings, reference=reference)), Stepped)
    assert steps[-1].loss < steps[0].loss
    assert math.isnan(steps[0].figures["ranked"])
    apart = [step.figures["chosen_log_prob"] - step.figures["rejected_log_prob"] for step in (steps[0], steps[-1])]
    assert apart[1] > apart[0]
    by_pairs = dataclasses.replace(settings, best_by="ranked")
    check_parts(halves, whole, by_pairs)
    with pytest.raises(InputError, match="rows of validation with both replies"):
        check_parts(whole, halves, by_pairs)


def test_what_pairs_cannot_do_is_refused(examples: list[Example]) -> None:
    """No rejected reply, a missing value, padding, a figure that replies do not have, a setting that is not read."""
    settings = TrainSettings(objective="direct")
    with pytest.raises(InputError, match="row 1 without"):
        objective_for(settings, examples)
    with pytest.raises(InputError, match="a value of each row"):
        objective_for(settings, pairs(), {})
    for said, wrong in (
        ("packing: expected true", {"objective": "direct", "packing": False}),
        ("smoothing: expected 0.0", {"objective": "odds", "smoothing": 0.1}),
        ("best_by", {"best_by": "ranked"}),
        ("objective", {"objective": "best"}),
        ("strength: expected nothing with objective 'reply'", {"pairs": PairSettings(strength=1.0)}),
        ("doubt: expected strength or margin", {"objective": "margin", "pairs": PairSettings(doubt=0.1)}),
    ):
        with pytest.raises(UsageError, match=said):
            TrainSettings(**wrong)  # type: ignore[arg-type]
    assert TrainSettings(objective="unpaired", pairs=PairSettings(strength=1.0, good=2.0)).pairs.good == 2
    with pytest.raises(UsageError, match="doubt"):
        PairSettings(doubt=float("nan"))


CHECK = {"chosen_log_prob": -20.0, "chosen_tokens": 20.0, "rejected_tokens": 21.0, "ranked": 0.9, "margin": 2.0}


@pytest.mark.parametrize(
    ("changes", "said"),
    [
        ({}, ""),
        ({"chosen_log_prob": -30.0}, "less likely, by 0.50 nats"),
        ({"rejected_tokens": 30.0}, "rejected replies are longer (30 tokens against 20)"),
        ({"rejected_tokens": 12.0}, "rejected replies are shorter"),
        ({"margin": 8.0}, "from 2.0 to 8.0"),
        ({"margin": 8.0, "ranked": 0.95}, ""),
        ({"margin": 8.0, "chosen_log_prob": -19.5}, ""),
    ],
)
def test_what_pairs_show_is_said_in_words(changes: dict[str, float], said: str) -> None:
    """Each with its figures, and nothing where nothing is clear."""
    notes = pair_notes([CHECK, CHECK | changes])
    assert len(notes) == bool(said)
    assert said in "".join(notes)
    assert pair_notes([{"validation_loss": 1.0}]) == []


@pytest.mark.parametrize(
    ("answers", "of_base", "said"),
    [
        ([30, 34], [20, 22], "32 tokens where the chosen replies have 20 and the base's answers 21"),
        ([30, 34], [8, 10], "32 tokens"),
        ([9, 11], [30, 40], "10 tokens"),
        ([0, 0], [30, 40], "0 tokens"),
        ([21, 22], [50, 60], ""),
        ([30, 34], [50, 60], ""),
        ([52, 60], [50, 60], ""),
        ([9, 11], [9, 10], ""),
    ],
)
def test_answers_that_drift_in_length_are_told(answers: list[int], of_base: list[int], said: str) -> None:
    """With the figures, and nothing where they stay near the chosen replies, or where those of the base are."""
    note = length_note(answers, of_base, [19, 21])
    assert said in note
    assert bool(note) == bool(said)
