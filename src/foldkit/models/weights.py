"""Names and forms of weights: what a family's files hold, to our parameters and back, bit for bit."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Callable, Iterator, Mapping, Sequence

import torch
from torch import Tensor

from .decoder import Decoder
from .families import FAMILIES, Family
from .spec import ModelSpec

Shapes = Mapping[str, torch.Size]


def parameter_shapes(spec: ModelSpec) -> dict[str, torch.Size]:
    """Return the shape of every parameter of a decoder."""
    with torch.device("meta"):
        return {name: value.shape for name, value in Decoder(spec).named_parameters()}


def file_names(names: Sequence[str], modules: Mapping[str, str]) -> dict[str, list[str]]:
    """Return for each tensor of the files those of our parameters that it holds, fused ones in order."""
    found: dict[str, list[str]] = defaultdict(list)
    for name in names:
        module, _, leaf = name.rpartition(".")
        parts = module.split(".")
        layer = parts[1] if parts[0] == "layers" else ""
        pattern = ".".join(["layers", "{n}", *parts[2:]]) if layer else module
        found[f"{modules[pattern].replace('{n}', layer)}.{leaf}"].append(name)
    return found


def to_ours(tensors: Callable[[str], Tensor], spec: ModelSpec, shapes: Shapes) -> Iterator[tuple[str, Tensor]]:
    """Yield our parameters from the tensors of a folder, asked for by name; fused ones are cut apart."""
    family = FAMILIES[spec.family]
    for theirs, ours in file_names(list(shapes), family.modules).items():
        value = tensors(theirs)
        if _stands_turned(family, ours, value):
            value = value.T
        for name, part in zip(ours, _cut(value, [shapes[name][0] for name in ours], spec, family), strict=True):
            yield name, part.contiguous()


def to_theirs(weights: Mapping[str, Tensor], spec: ModelSpec) -> dict[str, Tensor]:
    """Return the tensors of a folder from our parameters: the way back of `to_ours`."""
    family, tensors = FAMILIES[spec.family], {}
    for theirs, ours in file_names(list(weights), family.modules).items():
        parts = [weights[name] for name in ours]
        value = parts[0] if len(parts) == 1 else _joined(parts, spec, family)
        tensors[theirs] = (value.T if _stands_turned(family, ours, value) else value).contiguous()
    return tensors


def _stands_turned(family: Family, ours: Sequence[str], value: Tensor) -> bool:
    return family.transposed and value.dim() == 2 and ours[0].startswith("layers.")


def _cut(value: Tensor, sizes: Sequence[int], spec: ModelSpec, family: Family) -> Sequence[Tensor]:
    if len(sizes) == 1:
        return [value]
    if value.shape[0] != sum(sizes):
        return [value] * len(sizes)  # the shapes will not fit, which is said by name
    if family.by_head:
        by_head = value.reshape(spec.n_heads, len(sizes), spec.head_dim, *value.shape[1:])
        return [by_head[:, index].flatten(0, 1) for index in range(len(sizes))]
    return torch.split(value, list(sizes))


def _joined(parts: Sequence[Tensor], spec: ModelSpec, family: Family) -> Tensor:
    if not family.by_head:
        return torch.cat(list(parts))
    by_head = [part.reshape(spec.n_heads, spec.head_dim, *part.shape[1:]) for part in parts]
    return torch.stack(by_head, dim=1).flatten(0, 2)
