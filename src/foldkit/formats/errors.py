"""The one form of error: what and where, what was allowed, what arrived, and what to do."""

from __future__ import annotations

import difflib
from collections.abc import Iterable, Sequence
from typing import Any


class FoldKitError(Exception):
    """Anything that a user can put right; the command line prints it without a traceback."""


class InputError(FoldKitError):
    """A file, row, column, option or key that is not as it must be."""

    def __init__(self, where: object, what: str, allowed: str, arrived: object, todo: str) -> None:
        self.where, self.what, self.allowed, self.arrived, self.todo = str(where), what, allowed, arrived, todo
        super().__init__(f"{where}: {what}: expected {allowed}, found {shown(arrived)}; {todo}")


class UsageError(InputError):
    """A call that cannot be carried out as it was written: exit code 2 on the command line."""


class StoppedError(FoldKitError):
    """What was asked to stop has, before there was anything to go on with: exit code 130 on the command line."""


class LostProcessError(FoldKitError):
    """Another process of a training has ended, which may say why: exit code 3 on the command line."""


def half_characters(text: str) -> InputError:
    """Return the error for a text that has no bytes: what was read into it was no UTF-8, or an escape names a half."""
    return InputError("text", "characters", "whole ones, as UTF-8 has them", text, "write it anew")


def shown(value: object, most: int = 80) -> str:
    """Return a value as an error shows it, long ones shortened."""
    text = "nothing" if value is None else repr(value)
    return text if len(text) <= most else f"{text[: most - 1]}…"


def near_name(name: str, known: Iterable[str]) -> str:
    """Return `did you mean 'x'?` for the known name that is nearest, or the list of all."""
    names = sorted(known)
    close = difflib.get_close_matches(name, names, n=1, cutoff=0.6)
    return f"did you mean {close[0]!r}?" if close else f"known: {listed(names, 40) or 'none'}"


def listed(names: Sequence[object], most: int = 12) -> str:
    """Return names or numbers one after the other; of many the first, and how many more there are."""
    more = f" and {len(names) - most:,} more" if len(names) > most else ""
    return f"{', '.join(map(str, names[:most]))}{more}"


def one_of(value: Any, allowed: Iterable[str], where: object, what: str) -> str:
    """Return `value` when it is one of `allowed`; raise UsageError with the near name otherwise."""
    names = list(allowed)
    if value not in names:
        raise UsageError(where, what, " or ".join(map(repr, names)), value, near_name(str(value), names))
    return str(value)
