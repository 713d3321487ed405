"""A measure of the user's own: a Python function of target, answer and row."""

from __future__ import annotations

import importlib.util
import inspect
import math
from collections.abc import Callable
from pathlib import Path
from typing import Any

from foldkit.formats import InputError, UsageError, near_name

from .measure import Form, Measure, Reply


def load_function(named: str, folder: Path, where: str) -> Callable[..., Any]:
    """Return the function of `file.py:name`, the file relative to `folder`. Only a file that the sheet names is run.

    Raises UsageError when there is no such file or function.
    """
    file, sign, name = named.rpartition(":")
    path = folder / file
    if not sign or not path.is_file():
        raise UsageError(where, "function", "file.py:name, the file beside the sheet", named, "check the name")
    spec = importlib.util.spec_from_file_location(path.stem, path)
    assert spec
    assert spec.loader
    module = importlib.util.module_from_spec(spec)
    spec.loader.exec_module(module)
    functions = [key for key, value in vars(module).items() if inspect.isfunction(value)]
    if name not in functions:
        raise UsageError(where, "function", f"a function of {file}", name, near_name(name, functions))
    function: Callable[..., Any] = getattr(module, name)
    return function


def own_measure(named: str, folder: Path) -> Measure:
    """Return the measure of a function `(target, answer, row) -> 0 to 1`, of its name; more is better."""
    function = load_function(named, folder, "[score] own")

    def figure(reply: Reply, form: Form) -> float:
        try:
            value = float(function(reply.target, reply.answer, reply.row))
        except Exception as error:
            told = f"{type(error).__name__}: {error}"
            raise InputError(f"[score] own {named}", "function", "a number from 0 to 1", told, "mend it") from error
        if not math.isfinite(value) or not 0 <= value <= 1:
            raise InputError(f"[score] own {named}", "function", "a number from 0 to 1", value, "mend it")
        return value

    return Measure(named.rpartition(":")[2], f"own: {named}", 0, 1, True, figure)
