"""The one path from turns to ids, for training, asking, shots and scoring alike."""

from __future__ import annotations

import functools
from collections.abc import Iterable, Sequence
from dataclasses import dataclass
from typing import NamedTuple

from foldkit.formats import InputError
from foldkit.templates import Markup, Outline, Shape, Turn, outline_of

from .base_files import TextSide
from .tokenizer import Place


@dataclass(frozen=True)
class Encoded:
    """Token ids, and the half-open spans of them that are learned: each a reply with its end marker."""

    ids: tuple[int, ...]
    spans: tuple[tuple[int, int], ...]

    @property
    def n_prompt(self) -> int:
        """How many ids stand before the last learned span: the prompt at asking."""
        return self.spans[-1][0]

    @property
    def learned(self) -> tuple[bool, ...]:
        """For each id whether it is learned."""
        flags = [False] * len(self.ids)
        for start, end in self.spans:
            flags[start:end] = [True] * (end - start)
        return tuple(flags)


@dataclass(frozen=True)
class Layout:
    """What stands around the texts of an example, as ids: `before` each text, and the `end` after the last.

    `places` says how each text is encoded there. `closing` says for each text how many ids after it are learned with
    it: as far as the first end marker, 0 for one that goes on; None for one that is not learned. What is before the
    last reply is written as it is `asked`, and the reply is closed as in the `ending`. `unlike` says that replies
    before the last one do not stand after what they would be asked with.
    """

    before: tuple[list[int], ...]
    places: tuple[Place, ...]
    end: list[int]
    closing: tuple[int | None, ...]
    roles: tuple[str, ...]
    asked: Shape
    ending: Shape
    unlike: bool

    @functools.cached_property
    def plain(self) -> bool:
        """Whether every text is written as it is."""
        return self.asked.plain and self.ending.plain

    @property
    def pieces(self) -> tuple[str, ...]:
        """The markup before, between and after the texts; the last but one asks for the reply."""
        return (*self.asked.pieces, self.ending.pieces[-1])

    def join(self, texts: Iterable[Sequence[int]], ids: list[int], spans: list[int]) -> None:
        """Append an example to `ids`, and the start and end of each of its learned spans, from its own start."""
        begin = len(ids)
        for before, text, n_closing in zip(self.before, texts, self.closing, strict=True):
            ids += before
            start = len(ids)
            ids += text
            if n_closing is not None:
                spans += (start - begin, len(ids) - begin + n_closing)
        ids += self.end


class _Around(NamedTuple):
    """The ids of markup before each text, and how the texts stand there."""

    ids: tuple[list[int], ...]
    places: tuple[Place, ...]


class Encoder:
    """Turns to ids in one base's tokenizer and one markup.

    Markup and texts are encoded apart, so that no text is taken for markup, yet as they are together: blanks of the
    markup before a text go into its first token, and a blank that the tokenizer puts before texts stands only where it
    would in the whole. Blanks that a markup writes before a reply, but not when it asks for one, are `blanks`: they
    begin what is learned, and are taken off answers.

    An answer ends at one of `end_ids`: those of the base, and the control token with which a markup closes replies
    where it does so with none of them. That is the `own_end` of the markup, else "".
    """

    def __init__(self, side: TextSide, markup: Markup) -> None:
        self.tokenizer, self.end_ids, self.markup = side.tokenizer, side.end_ids, markup
        self._layouts: dict[Outline, Layout] = {}
        self._prompts: dict[tuple[str, ...], _Around] = {}
        asks, before, after = self._usual_pieces()
        rest = before.removeprefix(asks)
        self.blanks = rest if before.startswith(asks) and not rest.strip() else ""
        self.own_end = self._own_end(after)
        if self.own_end:
            self.end_ids += (self.tokenizer.control_tokens[self.own_end],)

    def prompt(self, turns: Sequence[Turn]) -> tuple[int, ...]:
        """Return the ids of a prompt, the opening of the reply included."""
        written, roles = self.markup.written(turns, asking=True), tuple(turn.role for turn in turns)
        around = self._prompts.get(roles)
        if around is None:
            around = self._prompts[roles] = self._around(written.pieces, roles)
        first, *rest = around.ids
        ids = [*first]
        for text, piece in zip(self.tokenizer.encode_texts(written.texts, around.places[:-1]), rest, strict=True):
            ids += [*text, *piece]
        return tuple(ids)

    def reply(self, ids: Sequence[int]) -> str:
        """Return the text of an answer's ids, as far as it has come."""
        text = self.tokenizer.decode(ids)
        return "" if self.blanks.startswith(text) else text.removeprefix(self.blanks)

    def example(self, turns: Sequence[Turn]) -> Encoded:
        """Return the ids of an example that ends with the end marker of its last learned turn.

        Each learned turn's text and the first end marker of the markup after it are learned, nothing else; a turn that
        goes on has none.
        Raises InputError when the markup closes a learned turn with no end marker.
        """
        layout, texts = self.laid_out(outline_of(turns), [turn.text for turn in turns])
        ids: list[int] = []
        spans: list[int] = []
        layout.join(self.tokenizer.encode_texts(texts, layout.places), ids, spans)
        return Encoded(tuple(ids), tuple(zip(spans[::2], spans[1::2], strict=True)))

    def laid_out(self, outline: Outline, texts: Sequence[str]) -> tuple[Layout, Sequence[str]]:
        """Return the layout of an example and the texts that stand in it, those after the last learned one left out."""
        layout = self._layouts.get(outline)
        if layout is None:
            layout = self._layouts[outline] = self._layout(outline)
        return layout, self._kept(layout, texts[: len(layout.closing)])

    def _kept(self, layout: Layout, texts: Sequence[str]) -> Sequence[str]:
        """Return the texts as the markup writes them; raises InputError for one that would change it."""
        if layout.plain:
            return texts
        roles = layout.roles
        asked = self.markup.kept(layout.asked, roles[:-1], texts[:-1], asking=True)
        return [*asked, self.markup.reply(layout.ending, roles, texts)]

    def _layout(self, outline: Outline) -> Layout:
        n_turns = max(index for index, flag in enumerate(outline.learned) if flag) + 1
        roles, learned = outline.roles[:n_turns], outline.learned[:n_turns]
        asked, ending = self._asked(roles[:-1]), self.markup.ending(roles)
        around = self._around(asked.pieces, roles[:-1])
        end = self.tokenizer.encode_markup(ending.pieces[-1], begins=False)
        turns = zip(learned, outline.open[:n_turns], [*around.ids[1:], end], strict=True)
        closing = tuple((0 if goes_on else self._n_closing(after)) if flag else None for flag, goes_on, after in turns)
        earlier = [at for at, flag in enumerate(learned[:-1]) if flag]
        unlike = any(
            self._around(self._asked(roles[:at]).pieces, roles[:at]).ids != around.ids[: at + 1] for at in earlier
        )
        return Layout(around.ids, around.places, end[: closing[-1]], closing, roles, asked, ending, unlike)

    def _around(self, pieces: Sequence[str], roles: Sequence[str]) -> _Around:
        """Return the ids of the markup before texts of these roles and a reply, and how these stand there."""
        ids, places = list[list[int]](), list[Place]()
        for at, piece in enumerate(pieces):
            asks = at == len(roles)
            blanks = "" if asks else self._blanks_of(roles[at], piece)
            bare = piece[: len(piece) - len(blanks)]
            ids.append(self.tokenizer.encode_markup(bare, begins=at == 0))
            places.append(self.tokenizer.place_behind(bare, self.blanks if asks else blanks, begins=at == 0))
        return _Around(tuple(ids), tuple(places))

    def _blanks_of(self, role: str, piece: str) -> str:
        """Return the blanks at the end of markup that go into a text; before a reply those that do not ask for it."""
        if role == "assistant":
            return self.blanks if piece.endswith(self.blanks) else ""
        return piece[len(piece.rstrip(" ")) :]

    def _usual_pieces(self) -> tuple[str, str, str]:
        """Return what asks for the reply to a question, and what stands before and after one that is written."""
        try:
            before, after = self.markup.ending(("user", "assistant")).pieces
            return self.markup.shape(("user",), asking=True).pieces[-1], before, after
        except InputError:  # it is told of the turns that it is used with
            return "", "", ""

    def _asked(self, roles: tuple[str, ...]) -> Shape:
        """Return how turns are written to ask for the reply after them, as before a lone reply where there are none."""
        try:
            return self.markup.shape(roles, asking=True)
        except InputError:
            if roles:
                raise
            return Shape(self.markup.ending(("assistant",)).pieces[:1], (), looked=False)

    def _own_end(self, after: str) -> str:
        ids = self.tokenizer.encode_markup(after, begins=False)
        closed = not set(ids).isdisjoint(self.end_ids)
        names = {token: name for name, token in self.tokenizer.control_tokens.items()}
        return "" if closed else next((names[token] for token in ids if token in names), "")

    def _n_closing(self, ids: Sequence[int]) -> int:
        for index, token in enumerate(ids):
            if token in self.end_ids:
                return index + 1
        named = ", ".join(self.tokenizer.token(end) for end in self.end_ids)
        todo = "set markup = 'headings' in [base]"
        raise InputError(self.markup.where, "chat markup", f"{named} after a learned turn", None, todo)
