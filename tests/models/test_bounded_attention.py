"""Bounded attention against its formula, with PyTorch's own way back."""

from __future__ import annotations

import pytest
import torch
from torch import Tensor

from foldkit.models.bounded_attention import Bound, attend_bounded

N, N_KEYS = 5, 9
LATER = torch.ones(N_KEYS, N_KEYS, dtype=torch.bool).triu(1)
SEEN = torch.ones(N, N_KEYS, dtype=torch.bool).tril(N_KEYS - N)


def by_formula(query: Tensor, key: Tensor, value: Tensor, hidden: Tensor, cap: float) -> Tensor:
    """Return softmax(cap tanh(0.7 q k' / cap)) v, with the keys and values of a group for each of its queries."""
    keys, values = (one[:, :, None].expand(-1, -1, query.shape[2], -1, -1) for one in (key, value))
    products = cap * torch.tanh(0.7 * torch.einsum("bngqd,bngkd->bngqk", query, keys) / cap)
    return torch.einsum("bngqk,bngkd->bngqd", products.masked_fill(hidden, float("-inf")).softmax(-1), values)


@pytest.mark.parametrize("at_once", [1, 60, 2**22])
@pytest.mark.parametrize(
    ("n_queries", "mask", "hidden"),
    [
        (N_KEYS, None, LATER),
        (N, SEEN[None, None, None], ~SEEN),
        (N, torch.zeros(N, N_KEYS, dtype=torch.float64).masked_fill(~SEEN, float("-inf")), ~SEEN),
        (N, SEEN[-1:].expand(1, N_KEYS), torch.zeros(N, N_KEYS, dtype=torch.bool)),
    ],
    ids=["causal", "seen", "added", "all"],
)
def test_bounded_attention_is_its_formula(
    at_once: int, n_queries: int, mask: Tensor | None, hidden: Tensor, monkeypatch: pytest.MonkeyPatch
) -> None:
    """Values and gradients in float64 to 1e-12, however many queries at a time; with another cap they differ."""
    monkeypatch.setattr("foldkit.models.bounded_attention._AT_ONCE", at_once)
    torch.manual_seed(9)
    query = torch.randn(2, 3, 2, n_queries, 4, dtype=torch.float64, requires_grad=True)
    key, value = (torch.randn(2, 3, N_KEYS, 4, dtype=torch.float64, requires_grad=True) for _ in range(2))
    given, weight = (query, key, value), torch.randn(2, 3, 2, n_queries, 4, dtype=torch.float64)
    found = attend_bounded(*given, mask, Bound(0.7, 1.5, mask is None))
    with torch.no_grad():
        assert torch.equal(attend_bounded(*given, mask, Bound(0.7, 1.5, mask is None)), found)
    for cap, is_right in ((1.5, True), (1.6, False)):
        expected = by_formula(*given, hidden, cap)
        pairs = [(found.detach(), expected.detach())]
        pairs += zip(
            torch.autograd.grad((found * weight).sum(), given, retain_graph=True),
            torch.autograd.grad((expected * weight).sum(), given),
            strict=True,
        )
        furthest = max(float((a - b).norm() / b.norm()) for a, b in pairs)
        assert furthest < 1e-12 if is_right else furthest > 1e-3
