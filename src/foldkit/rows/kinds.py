"""Kinds of rows by the usual names of their columns. What is recognised is said, never silently assumed."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from dataclasses import dataclass


@dataclass(frozen=True)
class Kind:
    """A kind of rows: our name for it, and for each of its slots the column that holds it."""

    name: str
    columns: dict[str, str]


_ASKED = ("prompt", "question", "instruction", "input")
_INPUT = ("input", "context", "passage")
_SYSTEM = {"system": ("system", "system_prompt")}
_REPLIES = {
    "chosen": ("chosen", "preferred", "better", "accepted", "good"),
    "rejected": ("rejected", "worse", "dispreferred", "bad"),
}
# For each kind its slots with the usual names, the first one ours; a slot in OPTIONAL need not be there.
KINDS: dict[str, dict[str, tuple[str, ...]]] = {
    "preference": {"prompt": _ASKED, **_REPLIES, "input": _INPUT, **_SYSTEM},
    "compared": {"prompt": _ASKED, **_REPLIES},
    "transcript": {
        "speaker": ("speaker", "who", "voice", "caller", "sender", "role"),
        "text": ("text", "utterance", "said", "line", "words", "message", "content"),
        "time": ("time", "timestamp", "start", "at", "created_at", "sent_at"),
        "talk": (
            *("talk", "call", "session", "conversation", "thread", "chat", "ticket"),
            *("talk_id", "call_id", "session_id", "conversation_id", "thread_id", "chat_id", "ticket_id"),
        ),
    },
    "conversation": {
        "messages": ("messages", "conversation", "conversations", "dialogue", "dialog", "turns"),
        **_SYSTEM,
    },
    "grouped": {
        "label": ("label", "class", "category", "intent"),
        "texts": ("texts", "examples", "utterances", "phrases"),
    },
    "instruction": {
        "instruction": ("instruction", "task", "question", "prompt", "query"),
        "input": _INPUT,
        "output": ("output", "response", "answer", "completion", "reply"),
        **_SYSTEM,
    },
    "question": {
        "question": (
            *("question", "prompt", "query", "instruction", "task", "input", "source", "user"),
            *("text", "article", "document"),
        ),
        "answer": ("answer", "completion", "response", "reply", "output", "target", "assistant", "summary"),
        **_SYSTEM,
    },
    "label": {
        "text": ("text", "sentence", "utterance", "content"),
        "label": ("label", "class", "category", "intent"),
        **_SYSTEM,
    },
    "text": {"text": ("text", "content", "body")},
}
OPTIONAL = frozenset(
    {("compared", "prompt"), ("preference", "input"), ("transcript", "time"), ("transcript", "talk")}
    | {(kind, "system") for kind in ("preference", "conversation", "instruction", "question", "label")}
)


def recognise(columns: Sequence[str]) -> Kind | None:
    """Return the first kind all of whose needed slots are among the columns, letter case aside; None when none fits."""
    by_lower = {name.lower().strip(): name for name in columns}
    for kind, slots in KINDS.items():
        found: dict[str, str] = {}
        for slot, names in slots.items():
            theirs = next((by_lower[name] for name in names if name in by_lower), None)
            if theirs is not None and theirs not in found.values():
                found[slot] = theirs
        if all(slot in found or (kind, slot) in OPTIONAL for slot in slots):
            return Kind(kind, found)
    return None


def usual(columns: Iterable[str], kind: str, slot: str) -> list[str]:
    """Return those columns that have a usual name of a slot, letter case aside."""
    return [name for name in columns if name.lower().strip() in KINDS[kind][slot]]
