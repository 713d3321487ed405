"""A `tokenizer.json` without the tokens that a base's embedding has no row for."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any


def within_rows(description: Mapping[str, Any], n_rows: int) -> Mapping[str, Any]:
    """Return the description without added tokens beyond so many rows, itself where there are none.

    Some files name one for padding, or for pictures, which no text comes to; it may stand in the vocabulary too.
    """
    added = description.get("added_tokens") or []
    beyond = {token["content"] for token in added if token["id"] >= n_rows}
    if not beyond:
        return description
    model, vocabulary = description["model"], description["model"]["vocab"]
    if isinstance(vocabulary, dict):
        kept: Any = {name: number for name, number in vocabulary.items() if name not in beyond}
    else:  # pieces with their scores, by id
        kept = [piece for number, piece in enumerate(vocabulary) if number < n_rows or piece[0] not in beyond]
    known = [token for token in added if token["content"] not in beyond]
    return {**description, "added_tokens": known, "model": {**model, "vocab": kept}}
