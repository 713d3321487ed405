"""A conversation with an adapter or its base: what was said stays before every question."""

from __future__ import annotations

import dataclasses
from collections.abc import Mapping
from pathlib import Path

from foldkit.adapters import read_header
from foldkit.answering import AnswerSettings, History, Streamed
from foldkit.formats import InputError

from .asking import Asked, open_asked


class Conversation:
    """Questions and answers in order; `settings` and `slots` may change between them."""

    def __init__(self, asked: Asked, settings: AnswerSettings, slots: Mapping[str, str]) -> None:
        self.asked, self.settings, self.slots = asked, settings, dict(slots)
        self.history = History()

    def answer(self, text: str, *, adapted: bool) -> Streamed:
        """Return the answer in pieces, ended where the context is full.

        Raises InputError when not even one token has room.
        """
        row, answerer = self.asked.row(text, self.slots), self.asked.answerer
        n_prompt = len(answerer.prompt_ids(row, self.history))
        n_left = answerer.room - n_prompt
        if n_left < 1:
            arrived = f"{n_prompt} with this question"
            raise InputError("conversation", "context", f"at most {answerer.room} tokens", arrived, "begin anew: /new")
        settings = dataclasses.replace(self.settings, max_tokens=min(self.settings.max_tokens, n_left))
        return answerer.streamed(row, settings, adapted=adapted, before=self.history)

    def keep(self, text: str, answer: str) -> None:
        """Let a question and its answer stand before what follows."""
        self.history = self.history.and_then(self.asked.row(text, self.slots), answer)

    def forget(self) -> None:
        """Begin anew."""
        self.history = History()

    @property
    def n_context(self) -> int:
        """Tokens of all that was said so far."""
        if not self.history.said:
            return 0
        row, answer = self.history.said[-1]
        encoder = self.asked.answerer.encoder
        before = self.asked.answerer.prompt_ids(row, History(self.history.said[:-1]))
        return len(before) + len(encoder.tokenizer.encode_text(answer))

    def use_adapters(self, adapters: Mapping[Path, float]) -> None:
        """Go on with other adapters of the same base, in the first one's template; what was said stays.

        Raises InputError, and nothing changes, when one is for another base.
        """
        header = read_header(next(iter(adapters)))
        if (header.weights, header.compute) == self.asked.held:
            self.asked = self.asked.using(adapters)
        else:
            self.asked = open_asked(adapters, self.asked.base.path, self.asked.base.decoder.device.type)
