"""A conversation as JSON: a list of messages, each with its role and a text as its content."""

from __future__ import annotations

import json
from collections.abc import Mapping, Sequence
from typing import Any, NamedTuple

from .errors import one_of
from .json_text import json_value

ROLES = ("system", "user", "assistant")
# Names of roles that files use, with ours.
ROLE_NAMES = dict(zip(ROLES, ROLES, strict=True)) | {
    "human": "user",
    "bot": "assistant",
    "model": "assistant",
    "developer": "system",
}
# What is read of a message, and keys of what it says beside its text: a call of a tool.
_READ = {"role", "from", "content", "value", "learned"}
_CALLS = ("tool_calls", "function_call")


class Message(NamedTuple):
    """One message; an assistant's is learned unless it says `"learned": false`. `keys` is all that it says."""

    role: str
    text: str
    learned: bool
    keys: Mapping[str, Any] = {}

    def key(self, name: str) -> str:
        """Return what it says under a key as text, lists and objects as JSON, "" for what it does not say."""
        value = self.keys.get(name)
        return value if isinstance(value, str) else "" if value is None else json.dumps(value, ensure_ascii=False)


def read_messages(text: str, roles: Mapping[str, str]) -> list[Message] | None:
    """Return the messages of a JSON list, None where the text is none; `roles` names more roles, with ours.

    In a list of texts user and assistant take turns, the user first, and so they do in each of a list of pairs. An
    object whose keys are roles has a message under each. A content may be a list of texts, as parts of type text, which
    are joined. Raises ValueError naming the message that is wrong.
    """
    items = _items(text)
    known = {**ROLE_NAMES, **roles}
    return None if items is None else [_message(number, item, known) for number, item in enumerate(items, 1)]


def named_roles(text: str) -> list[tuple[str, str]]:
    """Return the roles of the messages of a JSON list as they are named, each with ours, "" for a name unknown here."""
    named = (_parts(item)[0] for item in _items(text) or () if isinstance(item, dict))
    return [(str(name), ROLE_NAMES.get(str(name), "")) for name in named if name is not None]


def unread_keys(text: str) -> list[str]:
    """Return the keys of the messages of a JSON list that nothing reads, in order of first use."""
    messages = [item for item in _items(text) or () if isinstance(item, dict)]
    return list(dict.fromkeys(str(key) for item in messages for key in item if key not in _READ))


def check_roles(roles: Mapping[str, str], where: str) -> None:
    """Raise UsageError unless the roles that names are said to mean are ours."""
    for name, role in roles.items():
        one_of(role, ROLES, where, f"roles.{name}")


def are_messages(value: Any) -> bool:
    """Say whether a value is a list of objects, one at least, that each have a role and a content, as messages have."""
    items = value if isinstance(value, list) else []
    return bool(items) and all(isinstance(one, dict) and None not in _parts(one) for one in items)


def _parts(item: Mapping[str, Any]) -> tuple[Any, Any]:
    """Return the role and the content of a message by any of their names, None for what it has not."""
    return item.get("role", item.get("from")), item.get("content", item.get("value"))


def _items(text: str) -> list[Any] | None:
    """Return the messages of a JSON list as they are; what is said in turn, and under roles as keys, as messages."""
    try:
        items = json_value(text)
    except (ValueError, RecursionError):
        return None
    if not isinstance(items, list):
        return None
    if items and all(isinstance(item, str) for item in items):
        return _in_turn(items)
    return [message for item in items for message in _several(item)]


def _several(item: Any) -> list[Any]:
    if isinstance(item, list) and len(item) == 2 and all(isinstance(text, str) for text in item):
        return _in_turn(item)
    if isinstance(item, dict) and _parts(item) == (None, None) and item and set(item) <= set(ROLE_NAMES):
        return [{"role": role, "content": content} for role, content in item.items()]
    return [item]


def _in_turn(texts: Sequence[str]) -> list[Any]:
    return [{"role": ("user", "assistant")[n % 2], "content": text} for n, text in enumerate(texts)]


def _message(number: int, item: Any, known: Mapping[str, str]) -> Message:
    if not isinstance(item, dict):
        raise ValueError(f"message {number} is no object with role and content")
    role, content = _parts(item)
    if role is None:
        raise ValueError(f"message {number} has no role")
    if str(role) not in known:
        todo = f'say which it is: roles = {{ "{role}" = "user" }}'
        raise ValueError(f"message {number} has the role {role!r}, which is none of {', '.join(ROLES)}: {todo}")
    if calls := next((key for key in _CALLS if item.get(key)), ""):
        todo = "write it into the content, as the base's markup does"
        raise ValueError(f"message {number}, of role {role}, calls a tool, and {calls} is not read: {todo}")
    parts = content if isinstance(content, list) else [content]
    texts = [part.get("text") if isinstance(part, dict) and part.get("type") == "text" else part for part in parts]
    whole = [text for text in texts if isinstance(text, str)]
    if len(whole) < len(parts):
        raise ValueError(f"message {number}, of role {role}, has no text as its content")
    ours = known[str(role)]
    return Message(ours, "".join(whole), ours == "assistant" and item.get("learned") is not False, item)
