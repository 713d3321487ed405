"""What is scored, against what, and how."""

from __future__ import annotations

from dataclasses import dataclass

from foldkit.formats import UsageError, one_of
from foldkit.formats.settings import within

from .measures import MEASURES


@dataclass(frozen=True)
class ContenderSettings:
    """One more contender: the base with this many worked examples in its prompt."""

    name: str
    shots: int
    seed: int = 1


@dataclass(frozen=True)
class ScoreSettings:
    """Measures, more contenders, and what they need.

    `pattern` is a regular expression with named groups that a well-formed reply matches as a whole. `by` is a column
    whose values are scored apart too. `general` is a text file for "did it forget?". `max_tokens` 0 allows a
    quarter more than the longest target of the test part, and 8 tokens.
    """

    measures: tuple[str, ...] = ("loss", "exact", "similarity")
    contender: tuple[ContenderSettings, ...] = ()
    pattern: str = ""
    by: str = ""
    general: str = ""
    max_tokens: int = 0
    batch: int = 32
    seed: int = 1

    def __post_init__(self) -> None:
        for name in self.measures:
            one_of(name, MEASURES, "[score]", "measures")
        if not self.pattern and {"fields", "format"} & set(self.measures):
            raise UsageError("[score]", "pattern", "a regular expression, for fields and format", None, "add a pattern")
        within(self.batch, 1, 4096, "[score]", "batch")
        within(self.max_tokens, 0, 2**16, "[score]", "max_tokens")
