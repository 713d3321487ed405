"""Tokenizers rebuilt from GGUF metadata: byte-level pairs, pieces joined by score, unigrams."""

from __future__ import annotations

import itertools
import json
import math
import random
from typing import Any

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from foldkit.formats import InputError
from foldkit.tokens import TextTokenizer
from foldkit.tokens.gguf_tokenizer import KINDS, PRE_SPLITTERS, tokenizer_json


def test_byte_pairs_give_the_same_ids(tokenizer_text: str) -> None:
    """Vocabulary, merges and control tokens stand in the metadata; any other kind is refused by key."""
    values = json.loads(tokenizer_text)
    vocabulary = sorted(values["model"]["vocab"], key=values["model"]["vocab"].__getitem__)
    metadata = {
        "tokenizer.ggml.model": "gpt2",
        "tokenizer.ggml.tokens": vocabulary,
        "tokenizer.ggml.merges": [" ".join(pair) for pair in values["model"]["merges"]],
        "tokenizer.ggml.token_type": [3, 3] + [1] * (len(vocabulary) - 2),
    }
    rebuilt, original = TextTokenizer(tokenizer_json(metadata, "x"), "x"), TextTokenizer(tokenizer_text, "y")
    for text in ("The wind is west, force 5.", "<end> é\n\n 12", ""):
        assert rebuilt.encode_text(text) == original.encode_text(text)
        assert rebuilt.encode_markup(text) == original.encode_markup(text)
    for key, value in (("model", "bert"), ("pre", "unheard"), ("tokens", []), ("token_type", [1])):
        with pytest.raises(InputError, match=f"tokenizer.ggml.{key}"):
            tokenizer_json({**metadata, f"tokenizer.ggml.{key}": value}, "x")


PIECES = {
    "gpt-2": ["It", "'s", " 1234", " fogBank", "!", "\n\n"],
    "smollm": ["It", "'s", " ", "1", "2", "3", "4", " fogBank", "!", "\n\n"],
    "llama-bpe": ["It", "'s", " ", "123", "4", " fogBank", "!\n\n"],
    "qwen2": ["It", "'s", " ", "1", "2", "3", "4", " fogBank", "!\n\n"],
    "tekken": ["It", "'s", " ", "1", "2", "3", "4", " fog", "Bank", "!\n\n"],
    "gpt-4o": ["It's", " ", "123", "4", " fog", "Bank", "!\n\n"],
}


@pytest.mark.parametrize("name", PRE_SPLITTERS)
def test_every_pre_splitter_cuts_where_it_should(tokenizer_text: str, name: str) -> None:
    """By hand for one of each form; every one gives any text back."""
    values = json.loads(tokenizer_text)
    values["pre_tokenizer"] = {"type": "Sequence", "pretokenizers": PRE_SPLITTERS[name]}
    tokenizer = TextTokenizer(json.dumps(values), "here")
    text = "It's 1234 fogBank!\n\n"
    assert tokenizer.decode(tokenizer.encode_text(text)) == text
    if name in PIECES:
        # Letters alone are tokens, so that what is one piece shows in its offsets only.
        from tokenizers import Tokenizer

        cut = Tokenizer.from_str(json.dumps(values)).pre_tokenizer.pre_tokenize_str(text)
        assert [text[start:end] for _, (start, end) in cut] == PIECES[name]


WORDS = [
    "wind",
    "west",
    "sea",
    "calm",
    "\u2581wind",
    "\u2581sea",
    "\u2581",
    "wi",
    "nd",
    "we",
    "st",
    "se",
    "ca",
    "lm",
    "a\u2581w",
]


def scored(kind: str) -> dict[str, Any]:
    """Return metadata with a few pieces of random scores, letters below them, control tokens and bytes."""
    rng = random.Random(3)
    letters = sorted(set("".join(WORDS)) - set(WORDS))
    tokens = ["<unk>", "<s>", "</s>", *(f"<0x{byte:02X}>" for byte in range(256)), *WORDS, *letters]
    types = [2, 3, 3, *[6] * 256, *[1] * (len(WORDS) + len(letters))]
    scores = [0.0] * 259 + [-rng.random() * 5 - 1 for _ in WORDS] + [-20.0 - i for i in range(len(letters))]
    return {
        "tokenizer.ggml.model": kind,
        "tokenizer.ggml.tokens": tokens,
        "tokenizer.ggml.token_type": types,
        "tokenizer.ggml.scores": scores,
        "tokenizer.ggml.unknown_token_id": 0,
        "tokenizer.ggml.add_space_prefix": False,
    }


def joined_by_score(text: str, metadata: dict[str, Any]) -> list[str]:
    """Join the best-scored neighbours, the leftmost first, until none can be: the slow way."""
    score = dict(zip(metadata["tokenizer.ggml.tokens"], metadata["tokenizer.ggml.scores"], strict=True))
    pieces = list(text.replace(" ", "\u2581"))
    while True:
        pairs = [(score[a + b], -i) for i, (a, b) in enumerate(itertools.pairwise(pieces)) if a + b in score]
        if not pairs:
            return pieces
        at = -max(pairs)[1]
        pieces[at : at + 2] = [pieces[at] + pieces[at + 1]]


def likeliest(text: str, metadata: dict[str, Any]) -> float:
    """Return the best sum of scores over all ways to cut a text: dynamic programming."""
    score = dict(zip(metadata["tokenizer.ggml.tokens"], metadata["tokenizer.ggml.scores"], strict=True))
    text = text.replace(" ", "\u2581")
    best = [0.0] + [-math.inf] * len(text)
    for end in range(1, len(text) + 1):
        best[end] = max(best[start] + score.get(text[start:end], -math.inf) for start in range(end))
    return best[-1]


@settings(max_examples=200, deadline=None)
@given(text=st.text(alphabet="windestacml ", max_size=30), begins=st.sampled_from((False, True, None)))
def test_pieces_are_joined_by_score(text: str, begins: bool | None) -> None:
    """Against joining by hand; and the text comes back. A blank is put before it, unless the file says otherwise."""
    metadata = scored("llama") | {"tokenizer.ggml.add_space_prefix": begins}
    if begins is None:
        del metadata["tokenizer.ggml.add_space_prefix"]
    tokenizer = TextTokenizer(tokenizer_json(metadata, "x"), "x")
    ids = tokenizer.encode_text(text)
    whole = f" {text}" if text and begins is not False else text
    assert [metadata["tokenizer.ggml.tokens"][i] for i in ids] == joined_by_score(whole, metadata)
    assert tokenizer.decode(ids) == text


@settings(max_examples=200, deadline=None)
@given(text=st.text(alphabet="windestacml ", max_size=30))
def test_unigrams_are_the_likeliest(text: str) -> None:
    """The sum of scores is the best there is, by dynamic programming; and the text comes back."""
    metadata = scored("t5")
    tokenizer = TextTokenizer(tokenizer_json(metadata, "x"), "x")
    ids = tokenizer.encode_text(text)
    assert sum(metadata["tokenizer.ggml.scores"][i] for i in ids) == pytest.approx(likeliest(text, metadata), abs=1e-4)
    assert tokenizer.decode(ids) == text


@pytest.mark.parametrize("kind", ["llama", "t5"])
def test_what_no_piece_holds_is_written_in_bytes(kind: str) -> None:
    """Other scripts come back; control tokens count in markup alone; scores that are missing are named."""
    metadata = scored(kind)
    tokenizer = TextTokenizer(tokenizer_json(metadata, "x"), "x")
    for text in ("sea ø 日本", "</s> wind", "\n\twind"):
        assert tokenizer.decode(tokenizer.encode_text(text)) == text
    assert tokenizer.encode_markup("</s>") == [2]
    assert 2 not in tokenizer.encode_text("</s>")
    assert not tokenizer.is_byte_level
    with pytest.raises(InputError, match=r"tokenizer\.ggml\.scores"):
        tokenizer_json({**metadata, "tokenizer.ggml.scores": [1.0]}, "x")


def test_every_kind_is_tried() -> None:
    """A newcomer to the registry is caught here."""
    assert set(KINDS) == {"gpt2", "llama", "t5"}
