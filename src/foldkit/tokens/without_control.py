"""A `tokenizer.json` in which text never becomes a control token, and all other text the ids that it had."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from typing import Any

# A score and a piece, as a vocabulary of unigrams has them by id.
_Pieces = list[list[Any]]


def without_control(description: Mapping[str, Any], id_of: Callable[[str], int | None]) -> dict[str, Any]:
    """Return the description without its control tokens; `id_of` tells the id of a token of the whole one.

    The library numbers added tokens that the model's vocabulary has not in their order. So that none moves up where
    others are taken out, all of them are put into the vocabulary, control tokens by names that no text holds.
    """
    added = description.get("added_tokens") or []
    ids = {token["content"]: id_of(token["content"]) for token in added}
    control = {token["content"] for token in added if token.get("special")}
    names = {content: f"\ue0f2{ids[content]}\ue0f2" if content in control else content for content in ids}
    by_name = {names[content]: number for content, number in ids.items() if number is not None}
    kept = [token for token in added if not token.get("special")]
    return {**description, "added_tokens": kept, "model": _renamed(description["model"], names, by_name)}


def _renamed(model: Mapping[str, Any], names: Mapping[str, str], by_name: Mapping[str, int]) -> dict[str, Any]:
    if isinstance(model["vocab"], list):
        return {**model, "vocab": _renamed_pieces(model["vocab"], by_name)}
    hidden = {content for content, name in names.items() if name != content}
    found = dict(model)
    found["vocab"] = {content: number for content, number in model["vocab"].items() if content not in hidden}
    found["vocab"] |= by_name
    if "unk_token" in model:
        found["unk_token"] = names.get(model["unk_token"], model["unk_token"])
    if "merges" in model:
        found["merges"] = [merge for merge in model["merges"] if not _touches(merge, hidden)]
    return found


def _renamed_pieces(pieces: _Pieces, by_name: Mapping[str, int]) -> _Pieces:
    found, least = [*pieces], min((score for _, score in pieces), default=0.0)
    for name, number in sorted(by_name.items(), key=lambda one: one[1]):
        if number < len(pieces):
            found[number] = [name, pieces[number][1]]
        else:
            found.append([name, least])
    return found


def _touches(merge: str | list[str], hidden: set[str]) -> bool:
    """Say whether a merge makes or uses a hidden token."""
    first, second = merge.split(" ", 1) if isinstance(merge, str) else merge
    return not hidden.isdisjoint((first, second, first + second))
