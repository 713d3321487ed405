"""One answer in pieces of text, as they are found."""

from __future__ import annotations

import contextlib
from collections.abc import Callable, Generator, Iterator, Sequence

from .settings import AnswerSettings


class Streamed:
    """Pieces of an answer. When they have come, or as far as they came: `text`, `n_tokens`, and how it `ended`.

    That is "by itself", "at a stop", "at its length", or "" while it is open.
    """

    def __init__(
        self, tokens: Generator[int], decode: Callable[[Sequence[int]], str], settings: AnswerSettings
    ) -> None:
        self._tokens, self._decode, self._settings = tokens, decode, settings
        self.text, self.ended, self.n_tokens = "", "", 0

    def __iter__(self) -> Iterator[str]:
        with contextlib.closing(self._tokens):
            yield from self._pieces()

    def _pieces(self) -> Iterator[str]:
        held = max([len(stop) - 1 for stop in self._settings.stops], default=0)
        n_shown, ids, whole = 0, list[int](), ""
        for token in self._tokens:
            ids.append(token)
            whole, self.n_tokens = self._decode(ids), len(ids)
            self.text = self._settings.before_stop(whole)
            if self.text != whole:
                self.ended = "at a stop"
                break
            # A character of several bytes may be half there, and so may a text that stops the answer.
            ready = len(whole) - held
            if not whole.endswith("\ufffd") and ready > n_shown:
                yield whole[n_shown:ready]
                n_shown = ready
        else:
            self.ended = "by itself" if self.n_tokens < self._settings.max_tokens else "at its length"
        if len(self.text) > n_shown:
            yield self.text[n_shown:]
