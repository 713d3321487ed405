"""Markup: how turns become one text for a given model, as segments of markup and of row text.

A markup is a Jinja template: the one a model's own files carry, or our headings for a model without one. It is
rendered in a sandbox with a stand-in for each turn's text, and cut at the stand-ins, so that markup and text stay
apart and text can never be taken for markup.
"""

from __future__ import annotations

import re
from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any, NoReturn

from jinja2 import TemplateError
from jinja2.sandbox import ImmutableSandboxedEnvironment

from foldkit.formats import InputError

from .template import Turn

# Headings of our own, for a base without chat markup. Only replies carry the end marker.
HEADINGS = (
    "{{ start_marker }}{% for turn in messages %}== {{ turn.role }} ==\n{{ turn.content }}"
    "{% if turn.role == 'assistant' %}{{ end_marker }}{% endif %}{{ '\\n\\n' }}{% endfor %}"
    "{% if add_generation_prompt %}== assistant ==\n{% endif %}"
)


@dataclass(frozen=True)
class Segment:
    """A stretch of an example: markup, whose control tokens count, or text, whose look-alikes do not."""

    text: str
    is_markup: bool
    learned: bool = False


@dataclass(frozen=True)
class Markup:
    """A Jinja source and the start and end markers that it may name."""

    source: str
    start_marker: str = ""
    end_marker: str = ""
    where: str = "markup"

    def example(self, turns: Sequence[Turn]) -> tuple[Segment, ...]:
        """Return the segments of a whole example."""
        return self._segments(turns, asking=False)

    def prompt(self, turns: Sequence[Turn]) -> tuple[Segment, ...]:
        """Return the segments of a prompt, the opening of the reply included."""
        return self._segments(turns, asking=True)

    def _segments(self, turns: Sequence[Turn], *, asking: bool) -> tuple[Segment, ...]:
        stand_ins = [f"\ue0f0{index}\ue0f1" for index in range(len(turns))]
        rendered = self._render([turn.role for turn in turns], stand_ins, asking)
        pieces = re.split("(\ue0f0\\d+\ue0f1)", rendered)
        if pieces[1::2] != stand_ins:
            found = f"{len(pieces) // 2} of {len(turns)} turns in order"
            raise InputError(
                self.where, "chat markup", "every turn once, in order", found, "set markup = 'headings' in [base]"
            )
        texts = self._followed(turns, pieces, asking)
        segments = [Segment(pieces[0], is_markup=True)]
        for turn, text, after in zip(turns, texts, pieces[2::2], strict=True):
            segments += [Segment(text, is_markup=False, learned=turn.learned), Segment(after, is_markup=True)]
        return tuple(segment for segment in segments if segment.text or segment.learned)

    def _followed(self, turns: Sequence[Turn], pieces: Sequence[str], asking: bool) -> list[str]:
        """Return the texts as the markup writes them: as they are, or with blanks taken off; refuse anything else."""
        real = self._render([turn.role for turn in turns], [turn.text for turn in turns], asking)
        for texts in ([turn.text for turn in turns], [turn.text.strip() for turn in turns]):
            joined = pieces[0] + "".join(t + after for t, after in zip(texts, pieces[2::2], strict=True))
            if joined == real:
                return texts
        raise InputError(
            self.where,
            "chat markup",
            "markup that keeps each turn's text",
            real[:60],
            "set markup = 'headings' in [base]",
        )

    def _render(self, roles: Sequence[str], texts: Sequence[str], asking: bool) -> str:
        messages = [{"role": role, "content": text} for role, text in zip(roles, texts, strict=True)]
        markers = {"start_marker": self.start_marker, "end_marker": self.end_marker}
        format_keys = {"bos_token": self.start_marker, "eos_token": self.end_marker}
        try:
            pattern = _environment().from_string(self.source)
            return pattern.render(messages=messages, add_generation_prompt=asking, **markers, **format_keys)
        except (TemplateError, TypeError, ValueError, ArithmeticError, LookupError, AttributeError) as error:
            raise InputError(
                self.where, "chat markup", "a Jinja template", str(error), "set markup = 'headings' in [base]"
            ) from None


def _environment() -> ImmutableSandboxedEnvironment:
    def refuse(message: str) -> NoReturn:
        raise TemplateError(message)

    environment = ImmutableSandboxedEnvironment(
        trim_blocks=True, lstrip_blocks=True, extensions=["jinja2.ext.loopcontrols"]
    )
    helpers: dict[str, Any] = {"raise_exception": refuse}
    environment.globals.update(helpers)
    return environment
