"""What was asked and answered before a question."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass

from foldkit.formats.thoughts import behind_thoughts
from foldkit.templates import Template, Turn


@dataclass(frozen=True)
class History:
    """Rows that were asked, each with its answer, in order."""

    said: tuple[tuple[Mapping[str, str], str], ...] = ()

    def prompt_turns(self, template: Template, row: Mapping[str, str]) -> tuple[Turn, ...]:
        """Return the turns of all that was said and of the question; a system text stands once while it is the same."""
        turns: list[Turn] = []
        for before, answer in self.said:
            turns += _without_known(template.prompt_turns(_filled(template, before)), turns)
            turns.append(Turn("assistant", answer))
        return (*turns, *_without_known(template.prompt_turns(row), turns))

    def and_then(self, row: Mapping[str, str], answer: str) -> History:
        """Return the history with one more question and its answer; one of thoughts alone stands as an empty one.

        Markup that leaves thoughts out would have nothing to write of it.
        """
        _, rest = behind_thoughts(answer)
        return History((*self.said, (row, "" if rest is not None and not rest.strip() else answer)))


def _filled(template: Template, row: Mapping[str, str]) -> dict[str, str]:
    return {slot: row.get(slot, "") for slot in template.slots()}


def _without_known(turns: tuple[Turn, ...], before: list[Turn]) -> list[Turn]:
    known = [turn for turn in before if turn.role == "system"]
    return [turn for turn in turns if turn.role != "system" or turn not in known[-1:]]
