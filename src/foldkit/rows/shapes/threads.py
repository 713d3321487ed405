"""Lines that say which other line they answer, and what comes before a reply then."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from typing import NamedTuple

from .talks import SYSTEM, Line, Talk

IN_A_RING = -1
_UNKNOWN, _ON_THE_WAY = -2, -3


class Answering(NamedTuple):
    """The number of each line and that of the one it answers, "" for none."""

    numbers: list[str]
    reply_to: list[str]

    def repeated(self) -> tuple[int, int] | None:
        """Return the places of the first number that stands twice, None where there is none; blank ones aside."""
        places: dict[str, int] = {}
        for place, number in enumerate(self.numbers):
            if number and places.setdefault(number, place) != place:
                return places[number], place
        return None

    def share_known(self) -> float:
        """Return the share of the lines that are answered which there are; 0 where none is answered."""
        known, asked = set(self.numbers), [number for number in self.reply_to if number]
        return sum(number in known for number in asked) / len(asked) if asked else 0.0

    def answered(self) -> list[int | None]:
        """Return for each line the place of the one it answers, None where there is none."""
        places = {number: place for place, number in enumerate(self.numbers)}
        return [places.get(number) if number else None for number in self.reply_to]


def threads_of(lines: Sequence[Line], answering: Answering, earlier: int) -> Iterator[Talk]:
    """Yield for each reply what it answers, up to so many turns, after the system text that it began with.

    A reply that its own side goes on is part of that one; one that comes back to itself has no lines.
    """
    answered = [None if line.role == SYSTEM else place for line, place in zip(lines, answering.answered(), strict=True)]
    firsts = first_lines(answered)
    learned = [line.role == "assistant" and bool(line.text) for line in lines]
    went_on = {place for place, own in zip(answered, learned, strict=True) if own}
    for place, first in enumerate(firsts):
        if not learned[place] or place in went_on:
            continue
        if first == IN_A_RING:
            yield Talk(answering.numbers[place], [lines[place]], last_alone=True)
            continue
        said = _last_turns(upwards(place, answered), lines, earlier)
        opening = [lines[first]] if lines[first].role == SYSTEM and lines[first] is not said[0] else []
        yield Talk(answering.numbers[first], [*opening, *said], last_alone=True)


def first_lines(answered: Sequence[int | None]) -> list[int]:
    """Return for each line the place of the one that all began with, `IN_A_RING` where that leads back to itself."""
    found = [_UNKNOWN] * len(answered)
    for start in range(len(answered)):
        way: list[int] = []
        place: int | None = start
        while place is not None and found[place] == _UNKNOWN:
            found[place] = _ON_THE_WAY
            way.append(place)
            place = answered[place]
        first = way[-1] if place is None else IN_A_RING if found[place] == _ON_THE_WAY else found[place]
        for one in way:
            found[one] = first
    return found


def upwards(place: int | None, answered: Sequence[int | None]) -> Iterator[int]:
    """Yield a line, the one it answers, and so on."""
    while place is not None:
        yield place
        place = answered[place]


def _last_turns(way: Iterator[int], lines: Sequence[Line], earlier: int) -> list[Line]:
    """Return the lines on a way up that make up the turn there and so many before it, in the order they were said."""
    said: list[Line] = []
    n_turns = 0
    for line in (lines[place] for place in way):
        if line.text:
            n_turns += not said or line.role != said[-1].role
            if n_turns > earlier + 1 and line.role != SYSTEM:
                break
            said.append(line)
    return said[::-1]
