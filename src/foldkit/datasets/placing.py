"""Whole units to parts: rows that stay together, placed by hash, or so that the parts come to their sizes."""

from __future__ import annotations

from collections.abc import Sequence
from typing import TYPE_CHECKING

import numpy as np
import pandas as pd

if TYPE_CHECKING:
    from .splitting import SplitSettings

PARTS = ("train", "validation", "test")


def place_units(keys: pd.DataFrame, settings: SplitSettings) -> pd.Series:
    """Return the part of every row from its keys with the column `known`, a part that was stored, or blank.

    A unit goes where one of its rows is fixed, else where its first known row is, else by hash or by need.
    """
    units = _units(keys)
    if not settings.fills:
        units["part"] = units["part"].where(units["part"] != "", by_hash(units["place"], settings))
    elif settings.time and (units["known"] != "").any():
        _after_known(units)
    else:
        for _, stratum in units.groupby("label", sort=True):
            share = stratum["n_rows"].sum() / len(keys)
            _fill(units, stratum, share, settings)
    return keys["unit"].map(units["part"])


def _units(keys: pd.DataFrame) -> pd.DataFrame:
    grouped = keys.groupby("unit", sort=False)
    units = grouped.agg(place=("place", "first"), label=("label", "first"), time=("time", "max"))
    units["n_rows"] = grouped.size()
    for name in ("fixed", "known"):
        given = keys.loc[keys[name] != ""].groupby("unit", sort=False)[name].first()
        units[name] = given.reindex(units.index).fillna("")
    units["part"] = units["fixed"].where(units["fixed"] != "", units["known"])
    return units


def by_hash(place: pd.Series, settings: SplitSettings) -> pd.Series:
    """Return the parts of places in 0 to 1 by the shares alone."""
    test, validation = settings.wanted("test"), settings.wanted("validation")
    parts = np.select([place < test, place < test + validation], ["test", "validation"], "train")
    return pd.Series(parts, index=place.index, name="part", dtype=object)


def _fill(units: pd.DataFrame, stratum: pd.DataFrame, share: float, settings: SplitSettings) -> None:
    """Give the open units of a stratum to test and validation until each has its size, the rest to train."""
    order = ["time", "place"] if settings.time else ["place"]
    waiting = stratum[stratum["part"] == ""].sort_values(order, ascending=[not settings.time, True][-len(order) :])
    left = list(zip(waiting.index, waiting["n_rows"], strict=True))
    for part in ("test", "validation"):
        wanted = settings.wanted(part)
        size = round(wanted * share) if wanted >= 1 else round(wanted * stratum["n_rows"].sum())
        filled = int(stratum.loc[stratum["part"] == part, "n_rows"].sum())
        while (place := _next_unit(left, filled, size, in_order=bool(settings.time))) is not None:
            unit, n_rows = left.pop(place)
            units.loc[unit, "part"] = part
            filled += n_rows
    units.loc[[unit for unit, _ in left], "part"] = "train"


def _next_unit(left: Sequence[tuple[object, int]], filled: int, size: int, *, in_order: bool) -> int | None:
    """Return the place of the first unit that brings a part nearer to its size, None where none does.

    Where the order is free, units that are too large are passed over.
    """
    nearer = (place for place, (_, n) in enumerate(left) if abs(filled + n - size) < abs(filled - size))
    place = next(nearer, None)
    return None if place and in_order else place


def _after_known(units: pd.DataFrame) -> None:
    """Place new units by time where the stored parts begin, so that nothing in train is newer than test."""
    begins = {part: units.loc[units["part"] == part, "time"].min() for part in ("test", "validation")}
    for unit in units.index[units["part"] == ""]:
        at = units.loc[unit, "time"]
        newer = (part for part in ("test", "validation") if at >= begins[part])
        units.loc[unit, "part"] = next(newer, "train")
