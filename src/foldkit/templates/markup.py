"""Markup: how turns become one text for a given model, as pieces of markup and the texts between.

A markup is a Jinja template: the one a model's own files carry, our headings for a model without one, or plain texts.
It is rendered in a sandbox with a stand-in for each turn's text, and cut at the stand-ins, so that markup and text stay
apart and text can never be taken for markup.
"""

from __future__ import annotations

import contextlib
import dataclasses
import datetime
import functools
import itertools
from collections.abc import Callable, Iterator, Mapping, Sequence
from dataclasses import dataclass
from typing import Any, NamedTuple

from foldkit.formats import InputError, UsageError, near_name

from .rendering import (
    DAY,
    RENDER_ERRORS,
    RefusedTurnsError,
    Shape,
    ending_of,
    ends_in,
    names_read,
    names_set,
    needs_the_day,
    render,
    shape_of,
)
from .template import Turn

# What a markup is told of a day that it needs, so that a prompt is the same whenever it is written.
SOME_DAY = "2026-01-01"

# Headings of our own, for a base without chat markup. Only replies carry the end marker.
HEADINGS = (
    "{{ start_marker }}{% for turn in messages %}== {{ turn.role }} ==\n{{ turn.content }}"
    "{% if turn.role == 'assistant' %}{{ end_marker }}{% endif %}{{ '\\n\\n' }}{% endfor %}"
    "{% if add_generation_prompt %}== assistant ==\n{% endif %}"
)
# Texts one after another, replies closed by the end marker, which stands for a start marker before a lone reply too.
PLAIN = (
    "{% if start_marker or (messages and messages[0].role != 'assistant') %}{{ start_marker }}"
    "{% else %}{{ end_marker }}{% endif %}{% for turn in messages %}{{ turn.content }}"
    "{% if turn.role == 'assistant' %}{{ end_marker }}{% endif %}{% endfor %}"
)
# Before a markup that takes no system turn: its text goes to the top of the user turn behind it.
SYSTEM_ABOVE = (
    "{% if messages[1] is defined and messages[0].role == 'system' and messages[1].role == 'user' %}"
    "{% set messages = [{'role': 'user', 'content': messages[0].content + '\\n\\n' + messages[1].content}]"
    " + messages[2:] %}{% endif %}\n"
)
_VALUES = "[base.markup_values]"


class Written(NamedTuple):
    """Turns as a markup writes them: `pieces` of markup before, between and after the `texts` of the turns.

    Control tokens count in a piece; their look-alikes in a text do not.
    """

    pieces: tuple[str, ...]
    texts: Sequence[str]

    def __str__(self) -> str:
        """Return the whole text."""
        after = zip(self.texts, self.pieces[1:], strict=True)
        return self.pieces[0] + "".join(text + piece for text, piece in after)


# A value that a markup may be given.
Value = str | bool | int | float


@dataclass(frozen=True)
class Markup:
    """A Jinja source, the start and end markers that it may name, and the values of other names that it reads.

    The value of `strftime_now` is the day that it writes.
    """

    source: str
    start_marker: str = ""
    end_marker: str = ""
    where: str = "markup"
    values: tuple[tuple[str, Value], ...] = ()

    @classmethod
    def from_mapping(cls, mapping: Mapping[str, Any], where: str) -> Markup:
        """Return the markup that `as_mapping` gave."""
        values = tuple((str(name), value) for name, value in mapping.get("values", ()))
        return cls(**{**mapping, "values": values, "where": where})

    def as_mapping(self) -> dict[str, Any]:
        """Return all that it writes by, wherever it is from."""
        mapping = dataclasses.asdict(self)
        del mapping["where"]
        return mapping | {"values": [list(pair) for pair in self.values]}

    def given(self, values: Mapping[str, Value]) -> Markup:
        """Return the markup with values of names that it reads, and a day where it needs one.

        Raises UsageError for a name that it does not read, and for a day that is none.
        """
        for name in values:
            if name not in self.readable:
                expected = "one that the base's markup reads"
                raise UsageError(_VALUES, "name", expected, name, near_name(name, self.readable))
        given = ({DAY: SOME_DAY} if needs_the_day(self.source) else {}) | dict(values)
        try:
            datetime.date.fromisoformat(str(given.get(DAY, SOME_DAY)))
        except ValueError as error:
            raise UsageError(_VALUES, DAY, f"a day such as {SOME_DAY}", given[DAY], str(error)) from None
        return dataclasses.replace(self, values=tuple(sorted(given.items())))

    def with_system(self) -> Markup:
        """Return the markup, a system text at the top of the question where it takes questions, but no system turn."""
        takes_none = self._takes("user") and not self._takes("system", "user")
        return dataclasses.replace(self, source=SYSTEM_ABOVE + self.source) if takes_none else self

    @property
    def system_above(self) -> bool:
        """Whether a system text stands at the top of the question, for the markup itself takes no system turn."""
        return self.source.startswith(SYSTEM_ABOVE)

    @property
    def readable(self) -> list[str]:
        """The names, sorted, that the markup can be given values of, beside messages and markers."""
        return sorted(names_read(self.source) - {*self._own_values(asking=False), "messages"})

    @property
    def open_names(self) -> list[str]:
        """Those of them that have no value yet, nor get one in the markup."""
        return [name for name in self.readable if name not in dict(self.values) and name not in names_set(self.source)]

    def _takes(self, *roles: str) -> bool:
        try:
            self.shape(roles, asking=True)
        except InputError:
            return False
        return True

    def written(self, turns: Sequence[Turn], *, asking: bool = False) -> Written:
        """Return how turns are written, with the opening of a reply after them when `asking`.

        Raises InputError for a markup that cannot be used with these turns.
        """
        roles, texts = [turn.role for turn in turns], [turn.text for turn in turns]
        shape = self.shape(roles, asking=asking)
        return Written(shape.pieces, self.kept(shape, roles, texts, asking=asking))

    def shape(self, roles: Sequence[str], *, asking: bool = False) -> Shape:
        """Return how turns of these roles are written, whatever their texts."""
        return _shape(self, tuple(roles), asking)

    def ending(self, roles: Sequence[str]) -> Shape:
        """Return how the last turn of these roles is written, as a shape of that text alone."""
        return _ending(self, tuple(roles))

    def kept(self, shape: Shape, roles: Sequence[str], texts: Sequence[str], *, asking: bool = False) -> Sequence[str]:
        """Return the texts as they are written in this shape.

        A markup may leave out the beginning of a text, such as thoughts. Raises InputError where it writes one of these
        very texts in any other way than it wrote the stand-ins.
        """
        kept = texts if shape.plain else shape.texts(texts)
        if not shape.looked:
            return kept
        real, written = self._real(roles, texts, asking), str(Written(shape.pieces, kept))
        ends = kept if real == written else ends_in(real, shape.pieces, kept)
        if ends is None:
            pairs = enumerate(zip(real, written, strict=False))
            at = next((place for place, (own, ours) in pairs if own != ours), len(written))
            raise self._changes(real[max(0, at - 30) : at + 30])
        return ends

    def reply(self, ending: Shape, roles: Sequence[str], texts: Sequence[str]) -> str:
        """Return the last text as it is to be learned: whole, for the beginning is what a markup leaves out later.

        Raises InputError where the markup does not write at least its end.
        """
        (kept,) = ending.texts(texts[-1:])
        if not ending.looked:
            return kept
        real, after = self._real(roles, texts, asking=False), ending.pieces[1]
        for own in (kept, kept.rstrip()):  # blanks behind it may be left out too
            ends = zip(reversed(real), reversed(own + after), strict=False)
            n_kept = len(list(itertools.takewhile(lambda pair: pair[0] == pair[1], ends))) - len(after)
            if n_kept >= len(own) or (n_kept > 0 and own[-n_kept:].strip()):
                return own
        raise self._changes(real[-60:])

    def _real(self, roles: Sequence[str], texts: Sequence[str], asking: bool) -> str:
        with self._rendering(roles):
            return render(self.source, roles, texts, self._values(asking))

    @contextlib.contextmanager
    def _rendering(self, roles: Sequence[str]) -> Iterator[None]:
        """Say what a rendering has against these turns, or that there can be none."""
        try:
            yield
        except RefusedTurnsError as error:
            said = f"{', '.join(roles)}: {error}"
            raise self._unusable("turns that it takes", said, "change the turns of the template, or ") from None
        except RENDER_ERRORS as error:
            raise self._unusable("a Jinja template", str(error)) from None

    def _changes(self, written: str) -> InputError:
        return self._unusable("markup that keeps each turn's text", f"…{written}")

    def _values(self, asking: bool) -> dict[str, object]:
        return {**dict(self.values), **self._own_values(asking)}

    def _own_values(self, asking: bool) -> dict[str, object]:
        markers = {"start_marker": self.start_marker, "end_marker": self.end_marker}
        return {
            **markers,
            "bos_token": self.start_marker,
            "eos_token": self.end_marker,
            "add_generation_prompt": asking,
        }

    def _unusable(self, allowed: str, arrived: object, first: str = "") -> InputError:
        todo = f"{first}set markup = 'headings' in [base]"
        return InputError(self.where, "chat markup", allowed, arrived, todo)


@functools.lru_cache(maxsize=4096)
def _shape(markup: Markup, roles: tuple[str, ...], asking: bool) -> Shape:
    return _found(markup, roles, asking, shape_of, "every turn once, in order")


@functools.lru_cache(maxsize=4096)
def _ending(markup: Markup, roles: tuple[str, ...]) -> Shape:
    return _found(markup, roles, False, ending_of, "the last turn once, at the end")


def _found(
    markup: Markup, roles: tuple[str, ...], asking: bool, find: Callable[..., Shape | None], allowed: str
) -> Shape:
    with markup._rendering(roles):
        shape = find(markup.source, roles, markup._values(asking))
    if shape is None:
        raise markup._unusable(allowed, f"another form for {', '.join(roles)}")
    return shape
