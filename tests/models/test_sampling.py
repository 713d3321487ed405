"""Which tokens are kept, by hand; and that draws come from those alone."""

from __future__ import annotations

import pytest
import torch

from foldkit.formats import UsageError
from foldkit.models import Sampling
from foldkit.models.sampling import choose, kept_shares, repeated_less

SHARES = torch.tensor([[0.1, 0.4, 0.05, 0.3, 0.15]], dtype=torch.float64)


@pytest.mark.parametrize(
    ("settings", "kept"),
    [
        ({}, [0, 1, 2, 3, 4]),
        ({"top_k": 2}, [1, 3]),
        ({"top_p": 0.4}, [1]),
        ({"top_p": 0.41}, [1, 3]),
        ({"top_p": 0.85}, [1, 3, 4]),
        ({"min_p": 0.3}, [1, 3, 4]),
        ({"min_p": 1.0}, [1]),
        ({"top_k": 3, "top_p": 0.5}, [1, 3]),
    ],
)
def test_unlikely_tokens_are_left_out(settings: dict[str, float], kept: list[int]) -> None:
    """By hand; the shares of those kept stay as they were, and no draw takes another."""
    sampling = Sampling(temperature=1.0, **settings)  # type: ignore[arg-type]
    found = kept_shares(SHARES, sampling)
    assert found.nonzero()[:, 1].tolist() == kept
    assert torch.equal(found[0, kept], SHARES[0, kept])
    draw = torch.Generator().manual_seed(0)
    drawn = {int(choose(SHARES.log(), sampling, [draw], [[]])) for _ in range(300)}
    assert drawn == set(kept)


def test_what_was_there_becomes_less_likely() -> None:
    """Divided above 0, multiplied below, once however often it was there; 1 changes nothing."""
    logits = torch.tensor([[2.0, -2.0, 1.0], [2.0, -2.0, 1.0]])
    found = repeated_less(logits, [[0, 0, 1], []], 2.0)
    assert found.tolist() == [[1.0, -4.0, 1.0], [2.0, -2.0, 1.0]]
    assert int(choose(logits[:1], Sampling(repetition=4.0), [], [[0]])) == 2
    assert int(choose(logits[:1], Sampling(), [], [[0]])) == 0


def test_settings_out_of_range_are_refused() -> None:
    """Not-a-number too, by name."""
    for name in ("temperature", "top_k", "top_p", "min_p", "repetition"):
        for value in (float("nan"), -1):
            with pytest.raises(UsageError, match=name):
                Sampling(**{name: value})
