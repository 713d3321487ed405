"""Shots: worked examples put into the prompt instead of training."""

from __future__ import annotations

import random
from collections.abc import Mapping, Sequence
from dataclasses import dataclass

from foldkit.templates import Template, Turn


@dataclass(frozen=True)
class Shots:
    """Rows whose worked examples stand before every question."""

    rows: tuple[Mapping[str, str], ...] = ()

    def prompt_turns(self, template: Template, row: Mapping[str, str]) -> tuple[Turn, ...]:
        """Return the turns of the worked examples and of the question.

        With shots, each example's system text stands at the head of its user turn, for it may differ by row, and a
        markup has room for one system turn.
        """
        if not self.rows:
            return template.prompt_turns(row)
        turns: list[Turn] = []
        for shot in self.rows:
            turns += _system_folded(template.turns(shot))
        return (*turns, *_system_folded(template.prompt_turns(row)))


@dataclass(frozen=True)
class NearestShots:
    """Rows whose worked examples stand before a question, chosen for each: `chosen` has them by the question's key."""

    chosen: Mapping[str, Shots]

    def prompt_turns(self, template: Template, row: Mapping[str, str]) -> tuple[Turn, ...]:
        """Return the turns of the worked examples of this question, the nearest last, and of the question."""
        return self.chosen[key_of(template, row)].prompt_turns(template, row)


def key_of(template: Template, row: Mapping[str, str]) -> str:
    """Return the text of a row's prompt, by which its shots are found."""
    return "\n".join(turn.text for turn in template.prompt_turns(row))


def draw_shots(rows: Sequence[Mapping[str, str]], n: int, seed: int) -> Shots:
    """Draw `n` worked examples by a seed, none twice. Raises ValueError when there are fewer rows."""
    if n > len(rows):
        raise ValueError(f"{n} shots were asked for, train has {len(rows)} rows")
    return Shots(tuple(random.Random(seed).sample(list(rows), n)))


def _system_folded(turns: Sequence[Turn]) -> list[Turn]:
    head, folded = "", []
    for turn in turns:
        if turn.role == "system":
            head += turn.text + "\n\n"
        else:
            folded.append(Turn(turn.role, head + turn.text, turn.learned))
            head = ""
    return folded
