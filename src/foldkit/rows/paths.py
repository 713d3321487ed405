"""Cells that hold objects or lists, and what stands in them under a path: `answers.text.0`."""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterable, Iterator, Mapping, Sequence
from typing import Any

import pandas as pd

from foldkit.formats import json_value

from .cells import cell_text
from .tables import spread_places

_SEEN = 200


def cells_at(columns: Mapping[str, list[Any]], path: str) -> list[Any] | None:
    """Return the cells of a column by its name, or what stands under a path in those of one; None where nothing does.

    A path is the column, then keys of objects and places in lists from 0, joined by dots; an object or a list may be
    written as JSON.
    """
    if path in columns:
        return columns[path]
    name = column_of(path, columns)
    if name is None:
        return None
    keys = path[len(name) + 1 :].split(".")
    found = [value_at(opened(cell), keys) for cell in columns[name]]
    return found if any(value is not None for value in found) else None


def column_of(path: str, columns: Iterable[str]) -> str | None:
    """Return the column that a path begins with, the longest of them, for names may have dots too; None for none."""
    return max((name for name in columns if path == name or path.startswith(f"{name}.")), key=len, default=None)


def texts_at(table: pd.DataFrame, path: str, *, strip: bool = True) -> list[str] | None:
    """Return what stands under a path in a table of texts, as the text of a cell; None where nothing does."""
    name = column_of(path, map(str, table))
    found = None if name is None else cells_at({name: table[name].tolist()}, path)
    return None if found is None else [cell_text(value, strip=strip) for value in found]


def text_paths(name: str, cells: Sequence[Any]) -> list[str]:
    """Return paths of texts that most cells of a column have: those in objects, the first one of lists."""
    every = [cell for cell in cells if cell]
    filled = [every[place] for place in spread_places(len(every), _SEEN)]
    counted = Counter(path for cell in filled for path in _texts(opened(cell), (name,)))
    return [".".join(path) for path, n in counted.items() if 2 * n > len(filled)]


def value_at(value: Any, keys: Sequence[str]) -> Any:
    """Return what stands under keys of objects and places in lists, None where nothing does."""
    for key in keys:
        if isinstance(value, Mapping):
            value = value.get(key)
        elif isinstance(value, list) and key.isdecimal() and int(key) < len(value):
            value = value[int(key)]
        else:
            return None
    return value


def _texts(value: Any, path: tuple[str, ...]) -> Iterator[tuple[str, ...]]:
    for key, item in value.items() if isinstance(value, Mapping) else ():
        if "." in key:  # no path leads there
            continue
        if isinstance(item, str):
            yield (*path, key)
        else:
            yield from _texts(item, (*path, key))
    if isinstance(value, list) and value and all(isinstance(item, str) for item in value):
        yield (*path, "0")


def opened(cell: Any) -> Any:
    """Return an object or a list that a cell holds as JSON, any other cell as it is."""
    if not (isinstance(cell, str) and cell.lstrip()[:1] in ("{", "[")):
        return cell
    try:
        return json_value(cell)
    except (ValueError, RecursionError):
        return cell
