"""What a scorecard holds: the figures of contenders side by side, with intervals and tests."""

from __future__ import annotations

import dataclasses
from dataclasses import dataclass, field
from typing import Any

import pandas as pd

from .intervals import Interval

# Groups of fewer rows are marked: their figures say little.
FEW_ROWS = 20


@dataclass(frozen=True)
class Difference:
    """A contender's figure less the base's on the same rows, and what it means in a word.

    `p` is corrected over the measures. `rows_needed` is how many rows would tell a difference of `worth`, which is
    worth having; both 0 where that is not known.
    """

    interval: Interval
    word: str
    p: float
    worth: float = 0.0
    rows_needed: int = 0


@dataclass(frozen=True)
class ContenderScore:
    """All figures of one contender. `fields` has the share right of each field, `by` the figures of each group.

    `copied` is the share of answers that are a reply of train to the letter, `cut` of those that did not end by
    themselves; `alike` is the answer that was given to the most prompts, and to how many.
    `reworded` has the figures on the same rows with their prompts reworded, by what reworded them.
    """

    name: str
    prompt_tokens: float
    answer_tokens: float
    cost: float | None
    measures: dict[str, Interval]
    differences: dict[str, Difference]
    fields: dict[str, float]
    by: dict[str, dict[str, float]]
    far: dict[str, dict[str, float]]
    copied: float
    cut: float = 0.0
    alike: tuple[str, int] = ("", 0)
    general: dict[str, Difference | Interval] = field(default_factory=dict)
    reworded: dict[str, dict[str, float]] = field(default_factory=dict)


@dataclass(frozen=True)
class Floor:
    """What is reached without a model, and how the last contender's figures differ from that.

    `kind` says how: "reply", with `text`, the commonest of train (a `share` of it), as the answer to every row;
    "column", with what stands in the column `text` of the prompt, the one that is the most like the targets; "length",
    with the reply of each pair that is "shorter" or "longer", as `text` says, taken for the better one.
    """

    kind: str
    text: str
    measures: dict[str, Interval]
    differences: dict[str, Difference]
    share: float = 0.0


@dataclass(frozen=True)
class Scorecard:
    """What was measured, on what, with which settings; `rows` keeps the figures of every row.

    `signed` holds version, seed, fingerprints and settings, so that every figure can be traced. `leaks` are rows of
    test that stand in train too; `confused` the commonest wrong labels or fields; `suspects` rows of train that
    the adapter still finds the hardest; `repeated` is the share of targets that are a reply of train to the letter,
    `alike` the commonest target and how often it stands; `floors` are there where answers are held against them.
    """

    n_rows: int
    n_groups: int
    signed: dict[str, Any]
    contenders: tuple[ContenderScore, ...]
    by_counts: dict[str, int] = field(default_factory=dict)
    far_counts: dict[str, int] = field(default_factory=dict)
    leaks: tuple[str, ...] = ()
    confused: tuple[tuple[str, str, int], ...] = ()
    suspects: tuple[dict[str, Any], ...] = ()
    repeated: float = 0.0
    alike: tuple[str, int] = ("", 0)
    floors: tuple[Floor, ...] = ()
    rows: tuple[dict[str, Any], ...] = ()

    def as_mapping(self) -> dict[str, Any]:
        """Return everything but the rows, for JSON."""
        values = dataclasses.asdict(self)
        del values["rows"]
        return values

    def contender(self, name: str) -> ContenderScore:
        """Return the score of the contender of that name. Raises KeyError when there is none."""
        return {score.name: score for score in self.contenders}[name]

    def table(self) -> pd.DataFrame:
        """Return a line for each contender and measure: value, ends of the interval, difference, p-value, word."""
        lines = []
        for score in self.contenders:
            for name, interval in score.measures.items():
                line = {"contender": score.name, "measure": name, **dataclasses.asdict(interval)}
                found = score.differences.get(name)
                if found:
                    line |= {"difference": found.interval.value, "p": found.p, "word": found.word}
                lines.append(line)
        return pd.DataFrame(lines)

    def row_table(self) -> pd.DataFrame:
        """Return a line for each row and contender: target, answer, tokens and the figure of each measure."""
        return pd.DataFrame(
            {"row": row["row"], "prompt": row["prompt"], "target": row["target"], "contender": name, **said}
            for row in self.rows
            for name, said in row["contenders"].items()
        )
