"""A mapping to a frozen dataclass of settings: unknown keys and wrong types are refused by name."""

from __future__ import annotations

import dataclasses
import re
import types
import typing
from collections.abc import Mapping
from typing import Any, TypeVar

from .errors import UsageError, near_name

S = TypeVar("S")


def read_settings(kind: type[S], values: Mapping[str, Any], where: str) -> S:
    """Build the dataclass `kind` from a mapping, as a section of a sheet gives it.

    Whole numbers are taken for floats, lists for tuples, mappings for nested settings.
    Raises UsageError naming the key for an unknown, a missing or a wrongly typed one.
    """
    hints = typing.get_type_hints(kind)
    fields = {field.name: field for field in dataclasses.fields(kind)}  # type: ignore[arg-type]
    for key in values:
        if key not in fields:
            raise UsageError(where, key, "a known setting", values[key], near_name(key, fields))
    for name, field in fields.items():
        required = field.default is dataclasses.MISSING and field.default_factory is dataclasses.MISSING
        if required and name not in values:
            raise UsageError(where, name, "a value", None, f"add `{name} = …`")
    taken = {key: _fit(value, hints[key], where, key) for key, value in values.items()}
    return kind(**taken)


def within(value: float, low: float, high: float, where: str, what: str) -> None:
    """Raise UsageError unless low <= value <= high; not-a-number is never within."""
    if not low <= value <= high:
        raise UsageError(where, what, f"{low:.10g} to {high:.10g}", value, "choose a value in the range")


def named_groups(pattern: str, where: str, what: str) -> tuple[str, ...]:
    """Return the names of the groups of a regular expression, in order; raises UsageError where it is none."""
    try:
        return tuple(re.compile(pattern).groupindex)
    except (re.error, OverflowError) as error:
        raise UsageError(where, what, "a regular expression", pattern, str(error)) from None


def _fit(value: Any, hint: Any, where: str, key: str) -> Any:
    origin, inner = typing.get_origin(hint), typing.get_args(hint)
    if origin in (types.UnionType, typing.Union):
        fitting = [kind for kind in inner if _matches(value, kind)]
        if fitting:
            return _fit(value, fitting[0], where, key)
    elif _matches(value, hint):
        if dataclasses.is_dataclass(hint) and isinstance(hint, type):
            return read_settings(hint, value, f"{where}.{key}")
        if origin is tuple:
            return tuple(_fit(item, inner[0], where, f"{key}[{index}]") for index, item in enumerate(value))
        if origin is dict:
            return {name: _fit(item, inner[1], where, f"{key}.{name}") for name, item in value.items()}
        return float(value) if hint is float else value
    raise UsageError(where, key, _named(hint), value, _written_out(value) if hint is float else "change the value")


def _written_out(value: Any) -> str:
    """Say how a number is written that TOML does not know so, such as .5."""
    try:
        return f"write {float(value):g}" if isinstance(value, str) else "change the value"
    except ValueError:
        return "change the value"


def _matches(value: Any, hint: Any) -> bool:
    origin = typing.get_origin(hint)
    if hint is float:
        return isinstance(value, int | float) and not isinstance(value, bool)
    if hint is int:
        return isinstance(value, int) and not isinstance(value, bool)
    if origin is tuple:
        return isinstance(value, list | tuple)
    if origin is dict or dataclasses.is_dataclass(hint):
        return isinstance(value, Mapping)
    return isinstance(value, hint)


def _named(hint: Any) -> str:
    names = {int: "a whole number", float: "a number", str: "text", bool: "true or false"}
    if hint in names:
        return names[hint]
    if typing.get_origin(hint) in (types.UnionType, typing.Union):
        return " or ".join(_named(kind) for kind in typing.get_args(hint) if kind is not type(None))
    return "a list" if typing.get_origin(hint) is tuple else "a table"
