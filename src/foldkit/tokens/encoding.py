"""The one path from turns to ids, for training, asking, shots and scoring alike."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

from foldkit.formats import InputError
from foldkit.templates import Markup, Segment, Turn

from .base_files import TextSide


@dataclass(frozen=True)
class Encoded:
    """Token ids, and for each whether it is learned."""

    ids: tuple[int, ...]
    learned: tuple[bool, ...]

    @property
    def n_prompt(self) -> int:
        """How many ids stand before the last learned stretch: the prompt at asking."""
        end = max(index for index, flag in enumerate(self.learned) if flag)
        while end >= 0 and self.learned[end]:
            end -= 1
        return end + 1


class Encoder:
    """Turns to ids in one base's tokenizer and one markup."""

    def __init__(self, side: TextSide, markup: Markup) -> None:
        self.tokenizer, self.end_ids, self.markup = side.tokenizer, side.end_ids, markup

    def prompt(self, turns: Sequence[Turn]) -> tuple[int, ...]:
        """Return the ids of a prompt, the opening of the reply included."""
        return tuple(token for segment in self.markup.prompt(turns) for token in self._ids(segment))

    def example(self, turns: Sequence[Turn]) -> Encoded:
        """Return the ids of an example that ends with the end marker of its last learned turn.

        Each learned turn's text and the first end marker of the markup after it are learned, nothing else.
        Raises InputError when the markup closes a learned turn with no end marker.
        """
        ids: list[int] = []
        learned: list[bool] = []
        last = max(index for index, turn in enumerate(turns) if turn.learned)
        closing = False
        for segment in self.markup.example(turns[: last + 1]):
            new = self._ids(segment)
            n_learned = len(new) if segment.learned else self._end_of(new) + 1 if closing else 0
            ids += new
            learned += [True] * n_learned + [False] * (len(new) - n_learned)
            closing = segment.learned
        if closing:
            self._end_of([])
        end = len(learned) - learned[::-1].index(True)
        return Encoded(tuple(ids[:end]), tuple(learned[:end]))

    def _ids(self, segment: Segment) -> list[int]:
        encode = self.tokenizer.encode_markup if segment.is_markup else self.tokenizer.encode_text
        return encode(segment.text)

    def _end_of(self, closing: Sequence[int]) -> int:
        for index, token in enumerate(closing):
            if token in self.end_ids:
                return index
        named = ", ".join(self.tokenizer.token(end) for end in self.end_ids)
        raise InputError(
            self.markup.where, "chat markup", f"{named} after a learned turn", None, "set markup = 'headings' in [base]"
        )
