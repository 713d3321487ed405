"""A model's tokenizer, with its control tokens switched on for markup and off for text."""

from __future__ import annotations

import contextlib
import json
from collections.abc import Iterator, Sequence
from typing import Any, NamedTuple

from tokenizers import Tokenizer
from tokenizers.pre_tokenizers import ByteLevel

from foldkit.formats import InputError
from foldkit.formats.errors import half_characters
from foldkit.formats.fingerprint import canonical_json, fingerprint_text
from foldkit.formats.json_text import has_half

from .blank_before import at_the_start_alone, without_blank
from .within_rows import within_rows
from .without_control import without_control

# Texts in one call of the library. Measured: with 2,000 the work stays in the processor's caches, with 40,000 it took
# up to a third longer.
BATCH = 2000


class Place(NamedTuple):
    """Where a text stands: after which blanks of the markup, which go into its first token, and how it begins.

    One that `begins` is what a tokenizer that puts a blank before texts puts one before.
    """

    blanks: str = ""
    begins: bool = True


class TextTokenizer:
    """Encodes markup, where control tokens count, and text, where their look-alikes are plain characters."""

    def __init__(self, source: str, where: str, n_rows: int | None = None) -> None:
        """Read the JSON of a `tokenizer.json`, for a base whose embedding has so many rows.

        Added tokens that have none of these are left out. Raises InputError when the library cannot read it, and for
        more tokens than rows.
        """
        try:
            description = whole = json.loads(source)
            if n_rows is not None:
                description = within_rows(whole, n_rows)
            if description is not whole:
                source = json.dumps(description)
            added = description.get("added_tokens") or []
            self._markup = Tokenizer.from_str(source)
            self._markup.no_truncation()
            self._markup.no_padding()
            self.start_ids: tuple[int, ...] = tuple(self._markup.encode("").ids)
            self._markup.post_processor = None
            for key in ("post_processor", "truncation", "padding"):
                description[key] = None
            text = canonical_json(without_control(description, self.id_of))
            self._text = Tokenizer.from_str(text)
            self._bare_markup, self._bare_text = self._bare(description)
        except Exception as error:  # the library raises bare Exception
            raise InputError(where, "tokenizer", "a tokenizer.json", str(error), "fetch the file again") from None
        if n_rows is not None and self.vocab_size > n_rows:
            todo = "its files do not belong together: fetch them again"
            raise InputError(where, "tokens", f"at most {n_rows}, a row of the embedding each", self.vocab_size, todo)
        self.control_tokens = {token["content"]: token["id"] for token in added if token.get("special")}
        self._parting = frozenset(self.id_of(token["content"]) for token in added if not token.get("normalized"))
        self._only_at_the_start = at_the_start_alone(description)
        self.fingerprint = fingerprint_text(text)
        self._is_byte_level = _is_byte_level(description)

    @property
    def vocab_size(self) -> int:
        """Count of ids, control tokens included."""
        return self._markup.get_vocab_size()

    def _bare(self, description: dict[str, Any]) -> tuple[Tokenizer, Tokenizer]:
        """Return the tokenizers of markup and of text that put no blank before it."""
        bare = without_blank(description)
        if bare is None:
            return self._markup, self._text
        texts = (json.dumps(bare), canonical_json(without_control(bare, self.id_of)))
        markup, text = map(Tokenizer.from_str, texts)
        return markup, text

    def encode_markup(self, text: str, *, begins: bool = True) -> list[int]:
        """Return the ids of markup, as they are at the beginning, or else behind a text."""
        found = self._markup.encode(text, add_special_tokens=False)
        if begins or self._bare_markup is self._markup:
            return list(found.ids)
        first = next((place for place, token in enumerate(found.ids) if token in self._parting), len(found.ids))
        end = found.offsets[first][0] if first < len(found.ids) else len(text)
        return [*self._bare_markup.encode(text[:end], add_special_tokens=False).ids, *found.ids[first:]]

    def place_behind(self, markup: str, blanks: str, *, begins: bool) -> Place:
        """Return the place of a text behind markup and blanks; `begins` says that this markup is the beginning."""
        if self._bare_markup is self._markup:
            return Place(blanks)
        if not markup or self._only_at_the_start:
            return Place(blanks, begins and not markup)
        last = self.encode_markup(markup, begins=begins)[-1:]
        return Place(blanks, not self._parting.isdisjoint(last))

    def encode_text(self, text: str) -> list[int]:
        """Return the ids of text; no control token is ever among them. Raises InputError for half a character."""
        with _whole_characters([text]):
            return list(self._text.encode(text, add_special_tokens=False).ids)

    def encode_texts(self, texts: Sequence[str], places: Sequence[Place]) -> list[list[int]]:
        """Return the ids of many texts in their places, each different one encoded once.

        Other threads of Python go on meanwhile. Raises InputError for half a character.
        """
        led = [place.blanks + text for text, place in zip(texts, places, strict=True)]
        if self._bare_text is self._text:
            return _encoded(self._text, led)
        apart = {
            begins: [t for t, place in zip(led, places, strict=True) if place.begins is begins]
            for begins in (True, False)
        }
        found = {True: iter(_encoded(self._text, apart[True])), False: iter(_encoded(self._bare_text, apart[False]))}
        return [next(found[place.begins]) for place in places]

    @property
    def is_byte_level(self) -> bool:
        """Whether any text comes back exactly: each byte is a token, and nothing normalises the text."""
        return self._is_byte_level

    def decode(self, ids: Sequence[int], *, keep_control: bool = False) -> str:
        """Return the text of ids, control tokens left out unless they are to be kept."""
        return str(self._markup.decode(list(ids), skip_special_tokens=not keep_control))

    def token(self, token_id: int) -> str:
        """Return the token of an id as the vocabulary writes it."""
        return self._markup.id_to_token(token_id) or ""

    def id_of(self, token: str) -> int | None:
        """Return the id of a token, None when there is none of that name."""
        found = self._markup.token_to_id(token)
        return None if found is None else int(found)


def _encoded(tokenizer: Tokenizer, texts: Sequence[str]) -> list[list[int]]:
    different = list(dict.fromkeys(texts))
    ids: dict[str, list[int]] = {}
    for start in range(0, len(different), BATCH):
        batch = different[start : start + BATCH]
        with _whole_characters(batch):
            found = tokenizer.encode_batch_fast(batch, add_special_tokens=False)
        ids |= zip(batch, [encoding.ids for encoding in found], strict=True)
    return [ids[text] for text in texts]


@contextlib.contextmanager
def _whole_characters(texts: Sequence[str]) -> Iterator[None]:
    """Raise InputError for a text with half a character, of which the library says only that it is no text."""
    try:
        yield
    except TypeError:
        if half := next(filter(has_half, texts), ""):
            raise half_characters(half) from None
        raise


def _is_byte_level(description: dict[str, Any]) -> bool:
    steps = description.get("pre_tokenizer") or {}
    steps = steps.get("pretokenizers", [steps])
    bare = all(not step.get("add_prefix_space") and step.get("behavior") != "Removed" for step in steps)
    bytes_merged = any(step.get("type") == "ByteLevel" for step in steps)
    added = description.get("added_tokens") or []
    given_back = (description.get("decoder") or {}).get("type") == "ByteLevel"
    vocabulary = description["model"].get("vocab", {})
    every_byte = all(letter in vocabulary for letter in ByteLevel.alphabet())
    whole = description.get("normalizer") is None and bare and not any(map(_takes_blanks, added))
    return whole and bytes_merged and given_back and every_byte


def _takes_blanks(token: dict[str, Any]) -> bool:
    """Say whether an added token that stands in text takes the blanks beside it."""
    return not token.get("special") and bool(token.get("lstrip") or token.get("rstrip"))
