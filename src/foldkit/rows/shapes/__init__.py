"""Shapes: sources that are no table of examples yet, turned into one. The registry is by the name in `[rows]`."""

from .bilingual import BilingualSettings, both_ways
from .contract import SOURCE_ROW, Shape
from .graded import GradedSettings, best_against_others
from .grouped import GroupedSettings, one_text_each
from .judged import JudgedSettings, good_or_bad
from .transcript import TranscriptSettings, conversations

SHAPES: dict[str, Shape] = {
    "transcript": conversations,
    "grouped": one_text_each,
    "bilingual": both_ways,
    "graded": best_against_others,
    "judged": good_or_bad,
}

__all__ = [
    "SHAPES",
    "SOURCE_ROW",
    "BilingualSettings",
    "GradedSettings",
    "GroupedSettings",
    "JudgedSettings",
    "Shape",
    "TranscriptSettings",
]
