"""Tokenizers that put a blank before a text, or before every part of one between control tokens."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any


def without_blank(description: Mapping[str, Any]) -> dict[str, Any] | None:
    """Return the description of the same tokenizer with no blank before a text, None where it puts none there."""
    steps = {key: _without(description.get(key)) for key in ("normalizer", "pre_tokenizer")}
    changed = {key: step for key, step in steps.items() if step != description.get(key)}
    return {**description, **changed} if changed else None


def at_the_start_alone(description: Mapping[str, Any]) -> bool:
    """Tell whether the blank is put before the first part of a text alone, not before each."""
    steps = [step for key in ("normalizer", "pre_tokenizer") for step in _steps(description.get(key))]
    return any(step.get("prepend_scheme") == "first" for step in steps)


def _without(step: Any) -> Any:
    if not step or step["type"] == "Prepend":
        return None
    for key in ("normalizers", "pretokenizers"):
        if key in step:
            return {**step, key: [one for one in map(_without, step[key]) if one]}
    if step["type"] == "Metaspace" and step.get("prepend_scheme", "always") != "never":
        return {key: value for key, value in step.items() if key != "add_prefix_space"} | {"prepend_scheme": "never"}
    return {**step, "add_prefix_space": False} if step.get("add_prefix_space") else step


def _steps(step: Any) -> list[Mapping[str, Any]]:
    parts = (step or {}).get("normalizers", (step or {}).get("pretokenizers"))
    return [one for part in parts for one in _steps(part)] if parts is not None else [step] if step else []
