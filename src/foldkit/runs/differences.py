"""What differs between the sheets of runs."""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence
from typing import Any

# What the data of a training hang on, and what else a validation loss does beside the adapter and how it is trained.
_OF_DATA = ("rows.", "template.", "split.", "base.markup", "train.window", "train.objective")
_OF_LOSS = (*_OF_DATA, "base.model", "train.pairs")


def flat(sheet: Mapping[str, Any], before: str = "") -> dict[str, Any]:
    """Return the settings of a sheet by `section.key`."""
    found: dict[str, Any] = {}
    for key, value in sheet.items():
        name = f"{before}{key}"
        found |= flat(value, f"{name}.") if isinstance(value, Mapping) else {name: value}
    return found


def differing(sheets: Sequence[Mapping[str, Any]]) -> dict[str, list[Any]]:
    """Return for each setting that is not alike in all sheets its value in each, None where one has none."""
    all_flat = [flat(sheet) for sheet in sheets]
    keys = dict.fromkeys(key for values in all_flat for key in values)
    columns = {key: [values.get(key) for values in all_flat] for key in keys}
    return {key: values for key, values in columns.items() if any(value != values[0] for value in values)}


def of_data(keys: Iterable[str]) -> list[str]:
    """Return the settings among these that the data of a training hang on."""
    return [key for key in keys if key.startswith(_OF_DATA)]


def of_loss(keys: Iterable[str]) -> list[str]:
    """Return the settings among these with which validation losses are of other rows, tokens, or another loss."""
    return [key for key in keys if key.startswith(_OF_LOSS)]
