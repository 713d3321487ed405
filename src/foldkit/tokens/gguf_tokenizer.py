"""A `tokenizer.json` rebuilt from the metadata of a GGUF file: byte-level pairs."""

from __future__ import annotations

import json
from collections.abc import Mapping
from typing import Any

from foldkit.formats import InputError

_CONTROL, _USER_DEFINED = 3, 4
_BYTE_LEVEL = {"type": "ByteLevel", "add_prefix_space": False, "trim_offsets": True, "use_regex": True}
# How each pre-splitter that the metadata may name cuts text before pairs are merged.
_PRE_SPLITTERS: dict[str, list[dict[str, Any]]] = {
    "gpt-2": [_BYTE_LEVEL],
    "smollm": [{"type": "Digits", "individual_digits": True}, _BYTE_LEVEL],
}


def tokenizer_json(metadata: Mapping[str, Any], where: str) -> str:
    """Return the JSON of a tokenizer; raises InputError naming the key that cannot be served."""
    kind, splitter = metadata.get("tokenizer.ggml.model"), metadata.get("tokenizer.ggml.pre", "gpt-2")
    if kind != "gpt2":
        raise InputError(where, "tokenizer.ggml.model", "gpt2", kind, "choose a base with byte-level pairs")
    if splitter not in _PRE_SPLITTERS:
        known = ", ".join(_PRE_SPLITTERS)
        raise InputError(where, "tokenizer.ggml.pre", known, splitter, "choose a base with one of these")
    tokens = _texts(metadata, "tokenizer.ggml.tokens", where)
    merges = _texts(metadata, "tokenizer.ggml.merges", where)
    types = metadata.get("tokenizer.ggml.token_type", [1] * len(tokens))
    if not isinstance(types, list) or len(types) != len(tokens):
        raise InputError(where, "tokenizer.ggml.token_type", f"{len(tokens)} numbers", types, "fetch the file again")
    added = [
        _added(index, token, special=kind == _CONTROL)
        for index, (token, kind) in enumerate(zip(tokens, types, strict=True))
        if kind in (_CONTROL, _USER_DEFINED)
    ]
    model = {
        "type": "BPE",
        "vocab": {token: index for index, token in enumerate(tokens)},
        "merges": [merge.split(" ", 1) for merge in merges],
    }
    return json.dumps(
        {
            "version": "1.0",
            "added_tokens": added,
            "pre_tokenizer": {"type": "Sequence", "pretokenizers": _PRE_SPLITTERS[splitter]},
            "decoder": _BYTE_LEVEL,
            "model": model,
        },
        ensure_ascii=False,
    )


def _texts(metadata: Mapping[str, Any], key: str, where: str) -> list[str]:
    values = metadata.get(key)
    if not isinstance(values, list) or not values or not isinstance(values[0], str):
        raise InputError(where, key, "a list of texts", values, "fetch the file again")
    return values


def _added(index: int, token: str, *, special: bool) -> dict[str, Any]:
    flags = {"single_word": False, "lstrip": False, "rstrip": False, "normalized": False}
    return {"id": index, "content": token, "special": special, **flags}
