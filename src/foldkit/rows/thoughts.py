"""Replies that begin with thoughts, which are learned with them and no part of what is measured."""

from __future__ import annotations

import re
from collections import Counter
from collections.abc import Sequence

# Names of tags that thoughts stand in, as a regular expression.
THOUGHT_TAGS = "think|thinking|thoughts?|reason|reasoning|analysis|scratchpad"
# Names of columns, and of keys of messages, that may hold what leads to an answer.
THOUGHT_NAMES = (
    *("thought", "thoughts", "thinking", "reasoning", "reasoning_content"),
    *("rationale", "explanation", "chain_of_thought", "cot"),
)
_THOUGHTS = re.compile(rf"\s*<({THOUGHT_TAGS})>.*?(</\1>)\s*\S", re.DOTALL)


def mark_of_thoughts(replies: Sequence[str]) -> str:
    """Return the mark that ends the thoughts that most replies begin with, "" where they do not."""
    marks = Counter(match[2] for reply in replies if (match := _THOUGHTS.match(reply)))
    mark, n = next(iter(marks.most_common(1)), ("", 0))
    return mark if 2 * n > len(replies) else ""
