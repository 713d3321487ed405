"""What is scored, against what, and how."""

from __future__ import annotations

import math
from dataclasses import dataclass, field

from foldkit.formats import UsageError, near_name, one_of
from foldkit.formats.settings import named_groups, within

from .measures import MEASURES

REWORDINGS = ("case", "marks", "spelling")


@dataclass(frozen=True)
class ContenderSettings:
    """One more contender.

    The base with `shots` worked examples in its prompt, drawn from train by `seed`, or with `nearest` those whose
    prompts are the likest to each question; an `adapter`, by its run's name or its file; or `answers`, a file of
    JSON lines of answers made elsewhere, each with `row` and `answer`.
    """

    name: str
    shots: int = 0
    nearest: bool = False
    seed: int = 1
    adapter: str = ""
    answers: str = ""

    def __post_init__(self) -> None:
        kinds = [bool(self.shots), bool(self.adapter), bool(self.answers)]
        if sum(kinds) != 1:
            todo = "give one of shots, adapter, answers"
            raise UsageError(f"[score.contender] {self.name}", "kind", "one of the three", sum(kinds), todo)
        within(self.shots, 0, 1000, f"[score.contender] {self.name}", "shots")
        if self.nearest and not self.shots:
            raise UsageError(f"[score.contender] {self.name}", "nearest", "false without shots", True, "leave it out")


@dataclass(frozen=True)
class JudgeSettings:
    """Who grades answers, and by what.

    `command` is a program that reads and writes JSON lines, `function` a `file.py:name`, `base` the path of a base
    that is asked. `criteria` are questions by name, graded 1 to 5, or with `passes` pass or
    fail. With `pairs` the judge also says which of two answers is the better one, asked in both orders.
    """

    criteria: dict[str, str] = field(default_factory=dict)
    passes: bool = False
    pairs: bool = False
    command: str = ""
    function: str = ""
    base: str = ""

    def __post_init__(self) -> None:
        if not self.criteria and not self.pairs:
            raise UsageError("[score.judge]", "criteria", "a question by name, or pairs = true", None, "add one")
        if self.passes and not self.criteria:
            raise UsageError("[score.judge]", "passes", "false without criteria", True, "leave it out, or add one")
        if sum(map(bool, (self.command, self.function, self.base))) != 1:
            raise UsageError("[score.judge]", "judge", "one of command, function, base", None, "give one of them")


@dataclass(frozen=True)
class ScoreSettings:
    """Measures, more contenders, and what they need.

    With `after`, a mark such as `</think>`, answers and targets are measured from behind the last one that each has.
    `pattern` is a regular expression with named groups that a well-formed reply matches as a whole; `schema` a JSON
    Schema file for replies in JSON; `columns` the names of a line's cells. `tolerance` is how far a number may be off,
    as a share of it. `own` are functions of yours, `file.py:name`. `by` is a column whose values are scored apart too.
    `general` are text files for "did it forget?", and sheets of other rows, whose test part is taken. `reword` asks the
    adapter every prompt again, reworded by simple edits, or in the templates that are named. `worth` is a
    difference worth having, by measure, or under "all". `prices` are those of a million prompt tokens and of a million
    answer tokens, by contender, or under "all". `suspects` are how many rows of train that stay hard are listed.
    `enough` is the share that does the job, for the word on better asking. `max_tokens` 0 allows a quarter more than
    the longest target of the test part, and 8.
    """

    measures: tuple[str, ...] = ("loss", "exact", "similarity")
    contender: tuple[ContenderSettings, ...] = ()
    after: str = ""
    pattern: str = ""
    schema: str = ""
    columns: tuple[str, ...] = ()
    tolerance: float = 0.0
    own: tuple[str, ...] = ()
    by: str = ""
    general: str | tuple[str, ...] = ""
    reword: tuple[str, ...] = ()
    judge: JudgeSettings | None = None
    worth: dict[str, float] = field(default_factory=dict)
    prices: dict[str, tuple[float, ...]] = field(default_factory=dict)
    suspects: int = 0
    enough: float = 0.9
    max_tokens: int = 0
    batch: int = 64
    seed: int = 1

    def __post_init__(self) -> None:
        for name in self.measures:
            one_of(name, MEASURES, "[score]", "measures")
        for name in self.reword:
            if name not in REWORDINGS and not name.endswith(".toml"):
                allowed = f"{', '.join(REWORDINGS)}, or a template's .toml file"
                raise UsageError("[score]", "reword", allowed, name, near_name(name, REWORDINGS))
        self._check_form()
        names = [one.name for one in self.contender]
        if len({*names, "base", "adapter"}) != len(names) + 2:
            raise UsageError(
                "[score.contender]", "name", "a name of its own each, not base or adapter", names, "rename"
            )
        within(self.batch, 1, 4096, "[score]", "batch")
        within(self.max_tokens, 0, 2**16, "[score]", "max_tokens")
        within(self.tolerance, 0, 1, "[score]", "tolerance")
        within(self.enough, 0, 1, "[score]", "enough")
        within(self.suspects, 0, 10_000, "[score]", "suspects")
        within(self.seed, 0, 2**31 - 1, "[score]", "seed")
        self._check_tables(names)

    def _check_form(self) -> None:
        """Raise UsageError where measures of form have none, or there are two."""
        named_groups(self.pattern, "[score]", "pattern")
        if {"fields", "format"} & set(self.measures) and not (self.pattern or self.schema or self.columns):
            expected = "pattern, schema or columns, for fields and format"
            raise UsageError("[score]", "form", expected, None, "say what a well-formed reply is")
        forms = [name for name in ("pattern", "schema", "columns") if getattr(self, name)]
        if len(forms) > 1:
            raise UsageError("[score]", "form", "one of them", " and ".join(forms), "leave the others out")

    def _check_tables(self, names: list[str]) -> None:
        """Raise UsageError for a worth of no measure, prices of no contender, and values that are none."""
        for name, value in self.worth.items():
            one_of(name, dict.fromkeys((*MEASURES, *self.measure_names, "all")), "[score.worth]", "measure")
            if not _is_number(value):
                raise UsageError("[score.worth]", name, "a number above 0, or 0 for none", value, "change the value")
        for name, pair in self.prices.items():
            one_of(name, ("base", "adapter", *names, "all"), "[score.prices]", "contender")
            if not isinstance(pair, list | tuple) or len(pair) != 2 or not all(map(_is_number, pair)):
                expected = "two numbers: of a million prompt tokens, of a million answer tokens"
                raise UsageError("[score.prices]", name, expected, pair, "for example [0.2, 0.8]")

    @property
    def measure_names(self) -> tuple[str, ...]:
        """The names of all measures: of the registry, your own, the judge's criteria."""
        own = [named.rpartition(":")[2] for named in self.own]
        return (*self.measures, *own, *(f"judge {name}" for name in (self.judge.criteria if self.judge else ())))

    @property
    def edits(self) -> tuple[str, ...]:
        """The simple edits among what rewords prompts; the others are templates."""
        return tuple(name for name in self.reword if name in REWORDINGS)

    @property
    def texts(self) -> tuple[str, ...]:
        """The files of general text, and sheets of other rows."""
        return (self.general,) if isinstance(self.general, str) and self.general else tuple(self.general)

    def worth_of(self, measure: str) -> float:
        """Return the difference of this measure that is worth having."""
        return float(self.worth.get(measure, self.worth.get("all", 0.05)))


def _is_number(value: object) -> bool:
    return isinstance(value, int | float) and not isinstance(value, bool) and 0 <= value < math.inf
