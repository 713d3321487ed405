"""How likely a token can become behind a frozen norm and head: a bound that is reached, and never passed."""

from __future__ import annotations

import dataclasses

import pytest
import torch

from foldkit.models import Decoder, highest_probabilities
from foldkit.models.held import HOLDERS, FrozenEmbedding

from ..conftest import tiny_spec


def decoder_of(rows: torch.Tensor, norm: str, *, tied_head: bool = True, scale: float = 1.0) -> Decoder:
    """A decoder with these rows for its head, and a last norm whose gains differ."""
    spec = dataclasses.replace(tiny_spec(len(rows), tied_head=tied_head), norm=norm, logit_scale=scale)
    decoder = Decoder(spec).double().requires_grad_(requires_grad=False)
    torch.manual_seed(4)
    for weight in decoder.norm.parameters():
        weight.copy_(torch.randn_like(weight))
    (decoder.head or decoder.embedding).weight.copy_(rows)
    return decoder


def best_input(decoder: Decoder, token: int, steps: int) -> float:
    """The highest probability that an input of the last norm was found to give a token, by climbing from a start."""
    x = torch.randn(24, dtype=torch.float64, requires_grad=True)
    climb = torch.optim.Adam([x], lr=0.05)
    for _ in range(steps):
        climb.zero_grad()
        loss = -torch.log_softmax(decoder.logits(decoder.norm(x)), -1)[token]
        loss.backward()
        climb.step()
    return float(torch.exp(-loss.detach()))


@pytest.mark.parametrize(
    ("norm", "tied_head", "scale"), [("rms", True, 1.0), ("rms offset", False, 0.5), ("rms", False, 2.0)]
)
def test_of_two_tokens_the_bound_is_reached(norm: str, tied_head: bool, scale: float) -> None:
    """By the input that stands along the difference of their rows; 1e-4, which is the norm's own eps."""
    torch.manual_seed(1)
    decoder = decoder_of(torch.randn(2, 24, dtype=torch.float64) * 0.02, norm, tied_head=tied_head, scale=scale)
    (bound,) = highest_probabilities(decoder, torch.tensor([1]))
    assert best_input(decoder, 1, 2000) == pytest.approx(float(bound), rel=1e-4)
    assert 0.51 < bound < 0.99


@pytest.mark.parametrize("norm", ["rms", "rms offset", "layer"])
def test_no_input_passes_the_bound(norm: str) -> None:
    """For tokens among many like them; the control is one that stands apart, which may become certain."""
    torch.manual_seed(2)
    rows = torch.randn(24, dtype=torch.float64) + torch.randn(50, 24, dtype=torch.float64) * 0.01
    rows[7] *= -1
    decoder = decoder_of(rows, norm)
    alike, apart = highest_probabilities(decoder, torch.tensor([3, 7])).tolist()
    assert best_input(decoder, 3, 400) < alike < 0.2
    assert apart > 0.999
    assert best_input(decoder, 7, 400) > 0.999


def test_a_held_head_is_bounded_by_what_it_holds() -> None:
    """Rows that are the same in eight bits, and the same for the bound: one of three, exactly."""
    torch.manual_seed(3)
    rows = torch.randn(20, 24)
    rows[5] = rows[9] = rows[2]
    decoder = decoder_of(rows.double(), "rms")
    decoder.embedding = FrozenEmbedding(HOLDERS["int8"](rows), torch.float64)
    bounds = highest_probabilities(decoder, torch.tensor([2, 5, 4]))
    assert bounds[:2].tolist() == pytest.approx([1 / 3, 1 / 3], rel=1e-6)
    assert bounds[2] > 0.99
