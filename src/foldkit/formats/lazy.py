"""Doors that open on first use (PEP 562), so that importing a room of torch code costs nothing."""

from __future__ import annotations

import importlib
from collections.abc import Callable, Mapping
from typing import Any


def lazy_door(
    package: str, modules: Mapping[str, tuple[str, ...]]
) -> tuple[Callable[[str], Any], Callable[[], list[str]], list[str]]:
    """Return `__getattr__`, `__dir__` and `__all__` of a package whose names stand in the given modules."""
    places = {name: module for module, names in modules.items() for name in names}

    def get(name: str) -> Any:
        if name not in places:
            raise AttributeError(f"module {package!r} has no attribute {name!r}")
        return getattr(importlib.import_module(f"{package}.{places[name]}"), name)

    names = sorted(places)
    return get, names.copy, names
