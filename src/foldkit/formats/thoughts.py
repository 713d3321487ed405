"""Thoughts that stand in a reply before its answer, in tags of the usual names."""

from __future__ import annotations

import re

# Names of tags that thoughts stand in, as a regular expression.
THOUGHT_TAGS = "think|thinking|thoughts?|reason|reasoning|analysis|scratchpad"
_BEGIN = re.compile(rf"\s*<({THOUGHT_TAGS})>")


def behind_thoughts(reply: str) -> tuple[str, str | None]:
    """Return the mark that ends the thoughts that a reply begins with, "" for none, and what stands behind it.

    That is None where the thoughts do not end.
    """
    begin = _BEGIN.match(reply)
    if not begin:
        return "", reply
    mark = f"</{begin[1]}>"
    _, found, rest = reply.partition(mark)
    return mark, rest if found else None
