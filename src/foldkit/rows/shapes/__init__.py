"""Shapes: sources that are no table of examples yet, turned into one. The registry is by the name in `[rows]`."""

from .bilingual import BilingualSettings, both_ways
from .choices import ChoicesSettings, choice_lines, given_choices, lettered
from .compared import ComparedSettings, parted_in_the_last_reply
from .contract import SOURCE_ROW, Shape
from .graded import GradedSettings, best_against_others, told_grades
from .grouped import GroupedSettings, one_text_each
from .judged import JudgedSettings, good_or_bad
from .marked import MarkedSettings, in_turns
from .picked import PickedSettings, better_and_worse, told_sides
from .pieces import PiecesSettings, in_pieces
from .ticked import TickedSettings, labels_ticked, tick_columns
from .transcript import TranscriptSettings, are_threads, conversations

SHAPES: dict[str, Shape] = {
    "transcript": conversations,
    "grouped": one_text_each,
    "bilingual": both_ways,
    "graded": best_against_others,
    "judged": good_or_bad,
    "picked": better_and_worse,
    "compared": parted_in_the_last_reply,
    "choices": lettered,
    "ticked": labels_ticked,
    "marked": in_turns,
    "pieces": in_pieces,
}
# Shapes that make pairs of replies, which may be conversations.
PAIRING = ("graded", "judged", "picked")

__all__ = [
    "PAIRING",
    "SHAPES",
    "SOURCE_ROW",
    "BilingualSettings",
    "ChoicesSettings",
    "ComparedSettings",
    "GradedSettings",
    "GroupedSettings",
    "JudgedSettings",
    "MarkedSettings",
    "PickedSettings",
    "PiecesSettings",
    "Shape",
    "TickedSettings",
    "TranscriptSettings",
    "are_threads",
    "choice_lines",
    "given_choices",
    "tick_columns",
    "told_grades",
    "told_sides",
]
