"""A model's tokenizer, with its control tokens switched on for markup and off for text."""

from __future__ import annotations

import json
from collections.abc import Sequence

from tokenizers import Tokenizer

from foldkit.formats import InputError, fingerprint_value


class TextTokenizer:
    """Encodes markup, where control tokens count, and text, where their look-alikes are plain characters."""

    def __init__(self, source: str, where: str) -> None:
        """Read the JSON of a `tokenizer.json`; raises InputError when the library cannot."""
        try:
            description = json.loads(source)
            for key in ("post_processor", "truncation", "padding"):
                description[key] = None
            self._markup = Tokenizer.from_str(json.dumps(description))
            added = description.get("added_tokens", [])
            description["added_tokens"] = [token for token in added if not token.get("special")]
            self._text = Tokenizer.from_str(json.dumps(description))
            self.start_ids: tuple[int, ...] = tuple(Tokenizer.from_str(source).encode("").ids)
        except Exception as error:  # the library raises bare Exception
            raise InputError(where, "tokenizer", "a tokenizer.json", str(error), "fetch the file again") from None
        self.control_tokens = {token["content"]: token["id"] for token in added if token.get("special")}
        self.fingerprint = fingerprint_value(description)

    @property
    def vocab_size(self) -> int:
        """Count of ids, control tokens included."""
        return self._markup.get_vocab_size()

    def encode_markup(self, text: str) -> list[int]:
        """Return the ids of markup."""
        return list(self._markup.encode(text, add_special_tokens=False).ids)

    def encode_text(self, text: str) -> list[int]:
        """Return the ids of text; no control token is ever among them."""
        return list(self._text.encode(text, add_special_tokens=False).ids)

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
