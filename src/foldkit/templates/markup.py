"""Markup: how turns become one text for a given model, as pieces of markup and the texts between.

A markup is a Jinja template: the one a model's own files carry, our headings for a model without one, or plain texts.
It is rendered in a sandbox with a stand-in for each turn's text, and cut at the stand-ins, so that markup and text stay
apart and text can never be taken for markup.
"""

from __future__ import annotations

import functools
from collections.abc import Sequence
from dataclasses import dataclass
from typing import NamedTuple

from foldkit.formats import InputError

from .rendering import RENDER_ERRORS, Shape, render, shape_of
from .template import Turn

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


@dataclass(frozen=True)
class Markup:
    """A Jinja source and the start and end markers that it may name."""

    source: str
    start_marker: str = ""
    end_marker: str = ""
    where: str = "markup"

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

    def kept(self, shape: Shape, roles: Sequence[str], texts: Sequence[str], *, asking: bool = False) -> Sequence[str]:
        """Return the texts as they are written in this shape; raises InputError for one that would change it."""
        kept = texts if shape.plain else shape.texts(texts)
        if shape.looked:
            self._check(roles, texts, Written(shape.pieces, kept), asking)
        return kept

    def _check(self, roles: Sequence[str], texts: Sequence[str], written: Written, asking: bool) -> None:
        """Refuse a markup that writes these very texts otherwise than it wrote the stand-ins."""
        try:
            real = render(self.source, roles, texts, **self._values(asking))
        except RENDER_ERRORS as error:
            raise self._unusable("a Jinja template", str(error)) from None
        if real != str(written):
            pairs = enumerate(zip(real, str(written), strict=False))
            at = next((place for place, (own, ours) in pairs if own != ours), len(str(written)))
            raise self._unusable("markup that keeps each turn's text", f"…{real[max(0, at - 30) : at + 30]}")

    def _values(self, asking: bool) -> dict[str, object]:
        markers = {"start_marker": self.start_marker, "end_marker": self.end_marker}
        return {
            **markers,
            "bos_token": self.start_marker,
            "eos_token": self.end_marker,
            "add_generation_prompt": asking,
        }

    def _unusable(self, allowed: str, arrived: object) -> InputError:
        return InputError(self.where, "chat markup", allowed, arrived, "set markup = 'headings' in [base]")


@functools.lru_cache(maxsize=4096)
def _shape(markup: Markup, roles: tuple[str, ...], asking: bool) -> Shape:
    try:
        shape = shape_of(markup.source, roles, **markup._values(asking))
    except RENDER_ERRORS as error:
        raise markup._unusable("a Jinja template", str(error)) from None
    if shape is None:
        raise markup._unusable("every turn once, in order", f"another form for {', '.join(roles)}")
    return shape
