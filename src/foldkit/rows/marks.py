"""Marks of who speaks in a text: `User:`, `### Reply:`, `<|assistant|>` at the head of a line."""

from __future__ import annotations

import re
from collections import Counter, defaultdict
from collections.abc import Iterator, Mapping, Sequence

from foldkit.formats import ROLE_NAMES, ROLES, UsageError

from .tables import spread_places

_ASKING = ("instruction", "question", "prompt", "input", "customer", "client", "q")
_REPLYING = ("response", "answer", "reply", "output", "agent", "ai", "a")
_ROLES = {**ROLE_NAMES, **dict.fromkeys(_ASKING, "user"), **dict.fromkeys(_REPLYING, "assistant")}
# Marks that begin so stand anywhere, all others at the head of a line.
_ANYWHERE = ("<", "[", "###")
# One of these stands between two marks.
_PARTING = ("\n", "###", "<|")
_HEAD = r"^[ \t]*|(?=###[ \t]*\w+:|<\|)"
_OPENED, _CLOSED = r"(?:<\|?\w+\|?>)?(?:[#*]+[ \t]*|<\|?|\[)?", r"[\]:*]+|\|?>|(?=\s)"
_MARK = re.compile(f"(?:{_HEAD})({_OPENED}({'|'.join(_ROLES)})(?:{_CLOSED}))", re.IGNORECASE | re.MULTILINE)
_TAG = r"<[|/]?\w+\|?>|\[/?\w+\]"
_BEFORE, _AFTER = re.compile(rf"\A\s*({_TAG})"), re.compile(rf"({_TAG})\s*\Z")
_LIST = re.compile(r"\s*\[\s*\{")
_SEEN, _MOST, _SOME = 500, 0.9, 0.05


def has_turns(text: str) -> bool:
    """Tell whether a question and a reply to it are marked in a text."""
    if not any(sign in text for sign in _PARTING):  # most texts, and much faster
        return False
    roles = [role for role, _ in _marks(text)]
    return "user" in roles and "assistant" in roles[roles.index("user") :]


def usual_marks(texts: Sequence[str]) -> tuple[dict[str, list[str]], list[str]]:
    """Return the marks of each role in texts, and what stands at the ends of turns; nothing unless most have turns."""
    every = [text for text in texts if text.strip()]
    filled = [every[place] for place in spread_places(len(every), _SEEN)]
    if not filled or sum(map(has_turns, filled)) < _MOST * len(filled):
        return {}, []
    counted = Counter(one for text in filled for one in dict.fromkeys(_marks(text)))
    found: dict[str, list[str]] = defaultdict(list)
    for (role, mark), n in counted.most_common():
        if n >= _SOME * len(filled):
            found[role].append(mark)
    roles = {mark: role for role, marks in found.items() for mark in marks}
    ends = Counter(tag for text in filled for tag in {tag for _, piece in parted(text, roles) for tag in _tags(piece)})
    usual = sorted(tag for tag, n in ends.items() if n >= _MOST * len(filled))
    return {role: found[role] for role in ROLES if role in found}, usual


def are_talks(cells: Sequence[str]) -> bool:
    """Tell whether any of the cells is a list of messages, or most are texts in which marks say who speaks."""
    return any(map(_LIST.match, cells)) or bool(usual_marks(cells)[0])


def are_lists_of_messages(cells: Sequence[str]) -> bool:
    """Tell whether most of the cells that are filled are lists of objects, as messages are."""
    filled = [cell for cell in cells if cell.strip()]
    return 2 * sum(map(bool, map(_LIST.match, filled))) > len(filled)


def parted(text: str, roles: Mapping[str, str]) -> Iterator[tuple[str, str]]:
    """Yield the role of each mark in a text with what stands after it; what stands before all is of the system."""
    marks = sorted(roles, key=len, reverse=True)
    role, start = "system", 0
    for match in re.finditer("|".join(map(_pattern, marks)), text, re.MULTILINE):
        yield role, text[start : match.start()]
        role, start = roles[match.group().lstrip(" \t")], match.end()
    yield role, text[start:]


def messages_in(text: str, roles: Mapping[str, str], ends: Sequence[str]) -> list[tuple[str, str]]:
    """Return roles with what they say in a text; what one side says after several marks is one.

    `ends` are taken off both ends of each message; one that is blank then is none.
    """
    said: list[tuple[str, str]] = []
    for role, piece in parted(text, roles):
        if own := _without(piece, ends):
            before = said.pop()[1] + "\n\n" if said and said[-1][0] == role else ""
            said.append((role, before + own))
    return said


def mark_roles(marks: Mapping[str, Sequence[str]], where: str) -> dict[str, str]:
    """Return the role of each mark without blanks around it; raises UsageError for a blank one, or two of a name."""
    every = [(mark.strip(), role) for role, own in marks.items() for mark in own]
    if not all(mark for mark, _ in every) or len(dict(every)) < len(every):
        raise UsageError(where, "marks", "each of one role, none blank", [mark for mark, _ in every], "name each once")
    return dict(every)


def _without(text: str, ends: Sequence[str]) -> str:
    before = None
    while before != text:
        before, text = text, text.strip()
        for end in ends:
            text = text.removeprefix(end).removesuffix(end)
    return text


def _marks(text: str) -> Iterator[tuple[str, str]]:
    """Yield the role that a mark says and the mark, in order; a word alone is none."""
    for match in _MARK.finditer(text):
        if not match[1].isalpha():
            yield _ROLES[match[2].lower()], match[1]


def _pattern(mark: str) -> str:
    return re.escape(mark) if mark.startswith(_ANYWHERE) else rf"^[ \t]*{re.escape(mark)}"


def _tags(piece: str) -> Iterator[str]:
    """Yield the tags that a piece begins and ends with."""
    yield from (match[1] for end in (_BEFORE, _AFTER) if (match := end.search(piece)))
