"""A `tokenizer.json` rebuilt from the metadata of a GGUF file: byte-level pairs, scored pieces, or unigrams."""

from __future__ import annotations

import json
from collections.abc import Callable, Mapping
from typing import Any

from foldkit.formats import InputError, near_name

_NORMAL, _UNKNOWN, _CONTROL, _USER_DEFINED, _BYTE = 1, 2, 3, 4, 6
_BYTE_LEVEL = {"type": "ByteLevel", "add_prefix_space": False, "trim_offsets": True}
_DIGITS = {"type": "Digits", "individual_digits": True}
_SHORTENED = "(?i:'s|'t|'re|'ve|'m|'ll|'d)"
_WORDS = rf"{_SHORTENED}|[^\r\n\p{{L}}\p{{N}}]?\p{{L}}+"
_BLANKS = r"\s*[\r\n]+|\s+(?!\S)|\s+"
_REST = rf" ?[^\s\p{{L}}\p{{N}}]+[\r\n]*|{_BLANKS}"


def _split(pattern: str) -> list[dict[str, Any]]:
    split = {"type": "Split", "pattern": {"Regex": pattern}, "behavior": "Isolated", "invert": False}
    return [split, {**_BYTE_LEVEL, "use_regex": False}]


_PLAIN = [{**_BYTE_LEVEL, "use_regex": True}]
_LONE_DIGITS = [_DIGITS, *_PLAIN]
_TRIPLES = _split(rf"{_WORDS}|\p{{N}}{{1,3}}|{_REST}")
_SINGLES = _split(rf"{_WORDS}|\p{{N}}|{_REST}")


def _by_case(after: str, numbers: str) -> list[dict[str, Any]]:
    """Return a split that parts words where a capital follows a small letter; `after` may stand behind a word."""
    before, capital, small = r"[^\r\n\p{L}\p{N}]?", r"\p{Lu}\p{Lt}\p{Lm}\p{Lo}\p{M}", r"\p{Ll}\p{Lm}\p{Lo}\p{M}"
    words = rf"{before}[{capital}]*[{small}]+{after}|{before}[{capital}]+[{small}]*{after}"
    return _split(rf"{words}|{numbers}| ?[^\s\p{{L}}\p{{N}}]+[\r\n/]*|{_BLANKS}")


# These take a whole word that is in the vocabulary as it is, whatever the merges would make of it.
_WHOLE_WORDS = ("llama-bpe", "llama-v3", "llama3", "falcon3", "tekken")
# How each pre-splitter that the metadata may name cuts text before pairs are merged.
PRE_SPLITTERS: dict[str, list[dict[str, Any]]] = {
    **dict.fromkeys(("gpt-2", "mpt", "olmo", "jais"), _PLAIN),
    **dict.fromkeys(("smollm", "starcoder", "refact", "command-r", "codeshell"), _LONE_DIGITS),
    **dict.fromkeys(("llama-bpe", "llama-v3", "llama3", "falcon3", "dbrx", "smaug-bpe"), _TRIPLES),
    **dict.fromkeys(("qwen2", "deepseek-r1-qwen", "stablelm2"), _SINGLES),
    "tekken": _by_case("", r"\p{N}"),
    "gpt-4o": _by_case(f"{_SHORTENED}?", r"\p{N}{1,3}"),
}


def starts_texts(metadata: Mapping[str, Any]) -> bool:
    """Say whether a tokenizer sets its start token before a text where the metadata does not say.

    Those of scored pieces do, and byte-level pairs of the pre-splitters that take whole words; they have done so since
    before there was such a key.
    """
    return metadata.get("tokenizer.ggml.model") == "llama" or metadata.get("tokenizer.ggml.pre") in _WHOLE_WORDS


def tokenizer_json(metadata: Mapping[str, Any], where: str) -> str:
    """Return the JSON of a tokenizer; raises InputError naming the key that cannot be served."""
    kind = metadata.get("tokenizer.ggml.model")
    if kind not in KINDS:
        allowed = " or ".join(KINDS)
        raise InputError(where, "tokenizer.ggml.model", allowed, kind, "choose a base with one of these")
    tokens = _texts(metadata, "tokenizer.ggml.tokens", where)
    types = metadata.get("tokenizer.ggml.token_type", [_NORMAL] * len(tokens))
    if not isinstance(types, list) or len(types) != len(tokens):
        raise InputError(where, "tokenizer.ggml.token_type", f"{len(tokens)} numbers", types, "fetch the file again")
    added = [
        _added(index, token, special=kind == _CONTROL)
        for index, (token, kind) in enumerate(zip(tokens, types, strict=True))
        if kind in (_CONTROL, _USER_DEFINED)
    ]
    described = KINDS[kind](metadata, tokens, types, where)
    return json.dumps({"version": "1.0", "added_tokens": added, **described}, ensure_ascii=False)


def _byte_pairs(metadata: Mapping[str, Any], tokens: list[str], types: list[int], where: str) -> dict[str, Any]:
    splitter = metadata.get("tokenizer.ggml.pre", "gpt-2")
    if splitter not in PRE_SPLITTERS:
        todo = near_name(str(splitter), PRE_SPLITTERS)
        raise InputError(where, "tokenizer.ggml.pre", ", ".join(PRE_SPLITTERS), splitter, todo)
    merges = _texts(metadata, "tokenizer.ggml.merges", where)
    model = {
        "type": "BPE",
        "vocab": {token: index for index, token in enumerate(tokens)},
        "merges": [merge.split(" ", 1) for merge in merges],
        "ignore_merges": splitter in _WHOLE_WORDS,
    }
    pre = {"type": "Sequence", "pretokenizers": PRE_SPLITTERS[splitter]}
    return {"pre_tokenizer": pre, "decoder": {**_BYTE_LEVEL, "use_regex": True}, "model": model}


def _scored_pairs(metadata: Mapping[str, Any], tokens: list[str], types: list[int], where: str) -> dict[str, Any]:
    """Pieces joined two by two, the best score first (Kudo and Richardson 2018), so that scores order the merges."""
    scores = _scores(metadata, tokens, where)
    known = {token: index for index, token in enumerate(tokens) if types[index] in (_NORMAL, _USER_DEFINED)}
    merges = [
        (-scores[index], index, token[:cut], token[cut:])
        for token, index in known.items()
        for cut in range(1, len(token))
        if token[:cut] in known and token[cut:] in known
    ]
    model = {
        "type": "BPE",
        "vocab": {token: index for index, token in enumerate(tokens)},
        "merges": [[left, right] for _, _, left, right in sorted(merges)],
        "unk_token": tokens[_unknown(metadata, types)],
        "fuse_unk": True,
        "byte_fallback": _BYTE in types,
    }
    begins = metadata.get("tokenizer.ggml.add_space_prefix", True)
    return {**(_BLANK_BEFORE if begins else _MARKED_BLANKS), "model": model}


def _unigrams(metadata: Mapping[str, Any], tokens: list[str], types: list[int], where: str) -> dict[str, Any]:
    scores = _scores(metadata, tokens, where)
    model = {
        "type": "Unigram",
        "vocab": list(zip(tokens, scores, strict=True)),
        "unk_id": _unknown(metadata, types),
        "byte_fallback": _BYTE in types,
    }
    return {**_MARKED_BLANKS, "model": model}


# Blanks are written as a mark of their own.
_MARK = "\u2581"
_MARKING = {"type": "Replace", "pattern": {"String": " "}, "content": _MARK}
_UNMARKING = [
    {"type": "Replace", "pattern": {"String": _MARK}, "content": " "},
    {"type": "ByteFallback"},
    {"type": "Fuse"},
]
_MARKED_BLANKS = {"normalizer": _MARKING, "decoder": {"type": "Sequence", "decoders": _UNMARKING}}
_BLANK_BEFORE = {
    "normalizer": {"type": "Sequence", "normalizers": [{"type": "Prepend", "prepend": _MARK}, _MARKING]},
    "decoder": {
        "type": "Sequence",
        "decoders": [*_UNMARKING, {"type": "Strip", "content": " ", "start": 1, "stop": 0}],
    },
}
KINDS: dict[str, Callable[[Mapping[str, Any], list[str], list[int], str], dict[str, Any]]] = {
    "gpt2": _byte_pairs,
    "llama": _scored_pairs,
    "t5": _unigrams,
}


def _texts(metadata: Mapping[str, Any], key: str, where: str) -> list[str]:
    values = metadata.get(key)
    if not isinstance(values, list) or not values or not isinstance(values[0], str):
        raise InputError(where, key, "a list of texts", values, "fetch the file again")
    return values


def _scores(metadata: Mapping[str, Any], tokens: list[str], where: str) -> list[float]:
    scores = metadata.get("tokenizer.ggml.scores")
    if not isinstance(scores, list) or len(scores) != len(tokens):
        raise InputError(where, "tokenizer.ggml.scores", f"{len(tokens)} numbers", scores, "fetch the file again")
    return scores


def _unknown(metadata: Mapping[str, Any], types: list[int]) -> int:
    given = metadata.get("tokenizer.ggml.unknown_token_id")
    if isinstance(given, int) and 0 <= given < len(types):
        return given
    return types.index(_UNKNOWN) if _UNKNOWN in types else 0


def _added(index: int, token: str, *, special: bool) -> dict[str, Any]:
    flags = {"single_word": False, "lstrip": False, "rstrip": False, "normalized": False}
    return {"id": index, "content": token, "special": special, **flags}
