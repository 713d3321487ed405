"""How an answer is found and where it ends."""

from __future__ import annotations

from dataclasses import dataclass

from foldkit.formats.settings import within
from foldkit.models.sampling import Sampling

GREEDY = Sampling()


@dataclass(frozen=True)
class AnswerSettings:
    """An answer ends at its end marker, after `max_tokens`, or before the first of the texts in `stops`."""

    max_tokens: int = 200
    sampling: Sampling = GREEDY
    stops: tuple[str, ...] = ()

    def __post_init__(self) -> None:
        within(self.max_tokens, 1, 2**20, "answer", "max_tokens")

    def before_stop(self, text: str) -> str:
        """Return the text before the first of the stops in it."""
        return text[: min((text.index(stop) for stop in self.stops if stop and stop in text), default=len(text))]
