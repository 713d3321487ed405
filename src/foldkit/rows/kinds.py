"""Kinds of rows by the usual names of their columns. What is recognised is said, never silently assumed."""

from __future__ import annotations

import re
from collections.abc import Iterable, Sequence
from dataclasses import dataclass


@dataclass(frozen=True)
class Kind:
    """A kind of rows: our name for it, and for each of its slots the column that holds it."""

    name: str
    columns: dict[str, str]


_ASKED = ("prompt", "question", "instruction", "input")
_HISTORY = {"history": ("history", "earlier_turns", "previous_turns", "past_turns")}
_INPUT = ("input", "context", "passage", "schema")
_SYSTEM = {"system": ("system", "system_prompt", "system_message")}
# Who wrote a text; they speak with one another where it is told which talk it is of, or what it answers.
WRITERS = ("user", "author", "username")
# Two texts of which a label is said.
_FIRST = ("premise", "sentence1", "sentence_a", "text1", "text_a", "question1")
_SECOND = ("hypothesis", "sentence2", "sentence_b", "text2", "text_b", "question2")
_REPLIES = {
    "chosen": ("chosen", "preferred", "better", "accepted", "good"),
    "rejected": ("rejected", "worse", "dispreferred", "bad"),
}
# Words in the name of a column that tells of a reply, and is none.
_ABOUT = frozenset({"score", "scores", "rating", "grade", "reward", "id", "model", "source", "tokens", "length"})
_EITHER = ("response", "answer", "reply", "completion", "output")
_TALKS = ("conversation", "messages")
# For each kind its slots with the usual names, the first one ours; a slot in OPTIONAL need not be there.
KINDS: dict[str, dict[str, tuple[str, ...]]] = {
    "graded": {
        "prompt": _ASKED,
        "answers": ("answers", "responses", "completions", "replies", "outputs", "candidates"),
        "grades": ("grades", "scores", "ratings", "ranks", "rewards", "grade", "score", "rating", "rank", "ranking"),
        "input": _INPUT,
        **_SYSTEM,
    },
    "preference": {"prompt": _ASKED, **_REPLIES, "input": _INPUT, **_SYSTEM},
    "compared": {"prompt": _ASKED, **_REPLIES},
    "picked": {
        "prompt": _ASKED,
        "first": tuple(f"{word}{mark}" for mark in ("_a", "_0", "_1", "1") for word in (*_EITHER, *_TALKS)),
        "second": tuple(f"{word}{mark}" for mark in ("_b", "_2", "2", "_1") for word in (*_EITHER, *_TALKS)),
        "winner": ("winner", "preference", "preferred", "better", "pick", "choice", "verdict", "label"),
        "input": _INPUT,
        **_SYSTEM,
    },
    "transcript": {
        "speaker": ("speaker", "who", "voice", "caller", "sender", "role", *WRITERS),
        "text": ("text", "utterance", "said", "line", "words", "message", "content"),
        "time": ("time", "timestamp", "start", "at", "created_at", "sent_at"),
        "talk": (
            *("talk", "call", "session", "conversation", "thread", "chat", "ticket"),
            *("talk_id", "call_id", "session_id", "conversation_id", "thread_id", "chat_id", "ticket_id"),
            "file",
        ),
        "number": ("number", "id", "message_id", "msg_id", "post_id", "comment_id"),
        "reply_to": ("reply_to", "in_reply_to", "parent", "parent_id", "reply_to_id", "parent_message_id"),
    },
    "conversation": {
        "messages": ("messages", "conversation", "conversations", "dialogue", "dialog", "turns"),
        **_SYSTEM,
    },
    "choices": {
        "question": _ASKED,
        "choices": ("choices", "options", "alternatives"),
        "answer": (
            "answer",
            "answer_key",
            "answerkey",
            "answer_index",
            "correct",
            "correct_answer",
            "label",
            "solution",
        ),
        "input": _INPUT,
    },
    "grouped": {
        "label": ("label", "class", "category", "intent"),
        "texts": ("texts", "examples", "utterances", "phrases"),
    },
    "instruction": {
        "instruction": ("instruction", "task", "question", "prompt", "query"),
        "input": _INPUT,
        "output": ("output", "response", "answer", "answers", "completion", "reply", "sql"),
        **_HISTORY,
        **_SYSTEM,
    },
    "question": {
        "question": (
            *("question", "prompt", "query", "instruction", "problem", "inputs", "task", "input", "source", "user"),
            *("user_message", "text", "article", "document", "q"),
        ),
        "answer": (
            *("answer", "answers", "completion", "response", "reply", "output", "target", "assistant", "summary"),
            *("assistant_message", "solution", "targets", "sql", "a"),
        ),
        **_HISTORY,
        **_SYSTEM,
    },
    "label": {
        "text": ("text", "sentence", "utterance", "content", "body", "review", *_FIRST),
        "label": (
            *("label", "class", "category", "intent", "labels", "sentiment", "emotion", "topic", "tag", "tags"),
            *("rating", "stars"),
        ),
        "input": _SECOND,
        **_SYSTEM,
    },
    "text": {"text": ("text", "content", "body")},
}
_OPTIONAL: dict[str, tuple[str, ...]] = {
    **dict.fromkeys(("time", "talk", "number", "reply_to"), ("transcript",)),
    "prompt": ("compared", "picked"),
    "grades": ("graded",),
    "input": ("preference", "picked", "graded", "choices", "label"),
    "system": ("preference", "picked", "graded", "conversation", "instruction", "question", "label"),
    "history": ("instruction", "question"),
}
OPTIONAL = frozenset((kind, slot) for slot, kinds in _OPTIONAL.items() for kind in kinds)

# Those that tell by their names alone.
UNLISTED = tuple(kind for kind in KINDS if kind != "graded")


def recognise(columns: Sequence[str], kinds: Iterable[str] = UNLISTED) -> Kind | None:
    """Return the first kind all of whose needed slots are among the columns, letter case aside; None when none fits.

    A path of keys has the name of its last one, and that of its column where no other path leads into that; better and
    worse replies may say more, as `answer_good`.
    """
    by_lower = _replies_by_parts(columns) | _names_of_paths(columns) | {name.lower().strip(): name for name in columns}
    for kind in kinds:
        slots, found = KINDS[kind], dict[str, str]()
        for slot, names in slots.items():
            theirs = next((by_lower[name] for name in names if name in by_lower), None)
            if theirs is not None and theirs not in found.values():
                found[slot] = theirs
        if all(slot in found or (kind, slot) in OPTIONAL for slot in slots):
            return Kind(kind, found)
    return None


def _names_of_paths(columns: Sequence[str]) -> dict[str, str]:
    found: dict[str, str] = {}
    paths = [name for name in columns if "." in name]
    heads = [path.split(".")[0] for path in paths]
    for path, head in zip(paths, heads, strict=True):
        last = next(key for key in reversed(path.split(".")) if not key.isdecimal())
        for name in (last, *([head] if heads.count(head) == 1 else [])):
            found.setdefault(name.lower(), path)
    return found


def _replies_by_parts(columns: Sequence[str]) -> dict[str, str]:
    """Return the first of the columns that have `chosen`, `good` or such a word among others in their names."""
    found: dict[str, str] = {}
    for name in columns:
        parts = re.split(r"[\W_]+", name.lower())
        if len(parts) > 1 and _ABOUT.isdisjoint(parts):
            for part in parts:
                if any(part in names for names in _REPLIES.values()):
                    found.setdefault(part, name)
    return found


def usual(columns: Iterable[str], kind: str, slot: str) -> list[str]:
    """Return those columns that have a usual name of a slot, letter case aside; a letter alone tells nothing."""
    return [name for name in columns if len(name) > 1 and name.lower().strip() in KINDS[kind][slot]]
