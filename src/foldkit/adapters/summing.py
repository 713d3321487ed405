"""Adapters of one base as one: their products, weighted and added up, with ranks that add up too."""

from __future__ import annotations

import dataclasses
from collections.abc import Sequence

import torch
from torch import Tensor

from foldkit.formats import InputError

from .file import Loaded
from .settings import AdapterSettings

Pairs = dict[str, list[tuple[Tensor, Tensor]]]


def summed(parts: Sequence[tuple[Loaded, float]]) -> Loaded:
    """Return the adapter whose maps give the weighted sum of what those of `parts` give: B A = sum of w_i s_i B_i A_i.

    It has the first one's template. Raises InputError for a form that is no sum, and for another base or markup.
    """
    first = parts[0][0]
    for loaded, _ in parts:
        _check(loaded, first)
    pairs: Pairs = {}
    for loaded, weight in parts:
        for name, (a, b) in _products(loaded).items():
            pairs.setdefault(name, []).append((a, weight * b))
    joined = {n: (torch.cat([a for a, _ in all_]), torch.cat([b for _, b in all_], 1)) for n, all_ in pairs.items()}
    ranks = {name: len(a) for name, (a, _) in joined.items()}
    settings = AdapterSettings(names=tuple(ranks), ranks=ranks)
    tensors = {f"{name}.A": a for name, (a, _) in joined.items()}
    tensors |= {f"{name}.B": b / settings.scale_of(ranks[name]) for name, (_, b) in joined.items()}
    return Loaded(first.path, dataclasses.replace(first.header, settings=settings), tensors)


def _products(loaded: Loaded) -> dict[str, tuple[Tensor, Tensor]]:
    """Return A and B of each map, what is held frozen included, the scale taken into B."""
    found = dict(loaded.frozen_pairs)
    for name in [n.removesuffix(".A") for n in loaded.tensors if n.endswith(".A")]:
        a, b = loaded.tensors[f"{name}.A"], loaded.tensors[f"{name}.B"]
        b = b * loaded.header.settings.scale_of(len(a))
        more = found.get(name)
        found[name] = (torch.cat((a, more[0])), torch.cat((b, more[1]), 1)) if more else (a, b)
    return found


def frozen_products(loaded: Loaded) -> dict[str, tuple[Tensor, Tensor]]:
    """Return the pairs of an adapter that is to be held frozen under another; raises InputError for one that can't."""
    _check(loaded, loaded)
    return _products(loaded)


def _check(loaded: Loaded, first: Loaded) -> None:
    settings = loaded.header.settings
    if settings.magnitude or settings.full:
        what = "magnitude" if settings.magnitude else "full"
        expected = "low-rank maps alone, which can be added"
        todo = "begin a training with it instead"
        raise InputError(loaded.path, what, expected, getattr(settings, what), todo)
    for name in ("base_fingerprint", "markup"):
        own, expected = getattr(loaded.header, name), getattr(first.header, name)
        if own != expected:
            raise InputError(
                loaded.path, name, f"that of {first.path}, {expected}", own, "choose adapters that share it"
            )
