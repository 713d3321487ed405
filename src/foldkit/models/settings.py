"""Which base, and how turns are marked up for it."""

from __future__ import annotations

from dataclasses import dataclass

from foldkit.formats import one_of

MARKUPS = ("auto", "own", "headings")


@dataclass(frozen=True)
class BaseSettings:
    """The base: `pellam`, which ships, a folder, or a `.gguf` file; its `own` markup, our `headings`, or `auto`."""

    model: str = "pellam"
    markup: str = "auto"

    def __post_init__(self) -> None:
        one_of(self.markup, MARKUPS, "[base]", "markup")
