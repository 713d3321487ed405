"""Lines of who said what, and the talks they are of: by a name, by silences, by system texts."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from typing import NamedTuple

SYSTEM = "system"


class Line(NamedTuple):
    """One row of a talk."""

    row: int
    role: str
    speaker: str
    text: str


class Talk(NamedTuple):
    """Lines that follow on one another; with `last_alone` only the last reply is wanted."""

    name: str
    lines: list[Line]
    last_alone: bool = False


def talks_of(lines: Sequence[Line], names: Sequence[str], at: Sequence[float], gap: float) -> Iterable[Talk]:
    """Return the conversations of lines, by the name of each and a number that grows with each new one.

    One begins after a silence of more than `gap` seconds (0: none does), and with each system text.
    """
    last: dict[str, tuple[float, str, int]] = {}
    talks: dict[str, Talk] = {}
    for name, seconds, line in zip(names, at, lines, strict=True):
        before, earlier, number = last.get(name, (seconds, line.role, 1))
        silent = bool(gap) and seconds - before > gap
        number += silent or (line.role == SYSTEM and earlier != line.role)
        last[name] = (seconds, line.role, number)
        if line.text:
            talk = f"{name} {number}".strip()
            talks.setdefault(talk, Talk(talk, [])).lines.append(line)
    return talks.values()
