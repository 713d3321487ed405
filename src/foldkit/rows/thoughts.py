"""Replies that begin with thoughts, which are learned with them and no part of what is measured."""

from __future__ import annotations

from collections import Counter
from collections.abc import Sequence

from foldkit.formats.thoughts import behind_thoughts

# Names of columns, and of keys of messages, that may hold what leads to an answer.
THOUGHT_NAMES = (
    *("thought", "thoughts", "thinking", "reasoning", "reasoning_content"),
    *("rationale", "explanation", "chain_of_thought", "cot"),
)


def mark_of_thoughts(replies: Sequence[str]) -> str:
    """Return the mark that ends the thoughts that most replies begin with, "" where they do not."""
    marks = Counter(mark for mark, rest in map(behind_thoughts, replies) if mark and rest and rest.strip())
    mark, n = next(iter(marks.most_common(1)), ("", 0))
    return mark if 2 * n > len(replies) else ""
