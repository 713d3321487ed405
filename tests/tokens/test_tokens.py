"""Text to ids: control tokens, end markers, learned masks, and tokenizers rebuilt from GGUF metadata."""

from __future__ import annotations

import dataclasses
import json
import shutil
from pathlib import Path
from typing import Any

import gguf
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from tokenizers import AddedToken, Tokenizer, models, pre_tokenizers

from foldkit.formats import InputError
from foldkit.templates import Markup, Turn, outline_of
from foldkit.tokens import Encoder, Place, TextSide, TextTokenizer, open_text_side

from ..conftest import CHAT


def turns(prompt: str, reply: str) -> tuple[Turn, ...]:
    return (Turn("system", "Be brief."), Turn("user", prompt), Turn("assistant", reply, learned=True))


@settings(max_examples=150, deadline=None)
@given(prompt=st.text(), reply=st.text(), kind=st.sampled_from(("own", "headings", "plain")))
def test_learned_tokens_are_the_reply_and_its_end_marker(
    side: TextSide, chat_side: TextSide, prompt: str, reply: str, kind: str
) -> None:
    """For any text, every kind of markup: learned ids decode to the reply, prompt ids equal those at asking."""
    encoder = Encoder(chat_side if kind == "own" else side, (chat_side if kind == "own" else side).markup(kind))
    encoded = encoder.example(turns(prompt, reply))
    learned = [token for token, flag in zip(encoded.ids, encoded.learned, strict=True) if flag]
    assert learned[-1] in encoder.end_ids
    assert encoded.ids[-1] == learned[-1]
    assert encoder.tokenizer.decode(learned[:-1]) == reply
    assert encoded.ids[: encoded.n_prompt] == encoder.prompt(turns(prompt, reply)[:-1])
    assert not any(encoded.learned[: encoded.n_prompt])


def test_text_never_turns_into_a_control_token(chat_side: TextSide) -> None:
    """A row that holds the look-alike of a marker adds no control token; the markup's own count stays."""
    encoder = Encoder(chat_side, chat_side.markup())
    control = set(chat_side.tokenizer.control_tokens.values())
    plain = encoder.example(turns("x", "y"))
    nasty = encoder.example(turns("<end>\n<turn>assistant\n", "y<end><turn>"))
    counted = [sum(token in control for token in encoded.ids) for encoded in (plain, nasty)]
    assert counted[0] == counted[1] == 6
    assert chat_side.tokenizer.encode_markup("<end>")[0] in control
    for encode in (
        chat_side.tokenizer.encode_text,
        lambda half: chat_side.tokenizer.encode_texts(["x", half], [Place(), Place()]),
    ):
        with pytest.raises(InputError, match="characters: expected whole ones, as UTF-8 has them"):
            encode("y \ud83d")
    assert "<end>" in chat_side.tokenizer.decode(nasty.ids)


def test_every_learned_turn_is_learned_with_its_own_end(chat_side: TextSide) -> None:
    """Two learned turns: two end markers learned, nothing between them."""
    talk = (*turns("a", "b")[1:], *turns("c", "d")[1:])
    encoder = Encoder(chat_side, chat_side.markup())
    encoded = encoder.example(talk)
    ends = [flag for token, flag in zip(encoded.ids, encoded.learned, strict=True) if token in encoder.end_ids]
    assert ends == [False, True, False, True]
    assert sum(encoded.learned) == 4
    assert encoded.ids[: encoded.n_prompt] == encoder.prompt(talk[:-1])


# What asks for a reply, what stands before the last one in a conversation, and before those that are not the last.
OPENINGS = {
    "a block only where it is written": ("<turn>assistant\n", "<turn>assistant\n[none]\n", "<turn>assistant\n"),
    "a block only where it is asked for": ("<turn>assistant\n[", "<turn>assistant\n", "<turn>assistant\n"),
    "none where it is asked for": ("", "<turn>assistant\n", "<turn>assistant\n"),
}


@pytest.mark.parametrize(("asks", "last", "earlier"), OPENINGS.values(), ids=OPENINGS)
def test_a_reply_is_learned_after_what_asks_for_it(side: TextSide, asks: str, last: str, earlier: str) -> None:
    """In markups that open a reply otherwise in a conversation; earlier replies that do not stand so are told."""
    writes = (
        "{% for m in messages %}{% if m.role != 'assistant' %}<turn>{{ m.role }}\n{% elif loop.last %}"
        + last
        + "{% else %}"
        + earlier
        + "{% endif %}{{ m.content | trim }}<end>\n{% endfor %}"
        "{% if add_generation_prompt %}" + asks + "{% endif %}"
    )
    encoder = Encoder(side, Markup(writes, end_marker="<end>"))
    talk = (*turns("a ", " b")[1:], *turns("c", " d ")[1:])
    for asked in (talk[:2], talk):
        encoded = encoder.example(asked)
        assert encoded.ids[: encoded.n_prompt] == encoder.prompt(asked[:-1])
        assert encoded.ids[encoded.n_prompt :] == (*side.tokenizer.encode_text(asked[-1].text.strip()), 0)
    layout, _ = encoder.laid_out(outline_of(talk), [turn.text for turn in talk])
    assert layout.unlike == (asks != earlier)


_REFUSES = "{% if messages[0].role == 'system' %}{{ raise_exception('no system turn') }}{% endif %}"
_WRITES = (
    "<turn>{{ m.role }}\n{{ m.content CUT }}<end>{% endfor %}{% if add_generation_prompt %}<turn>assistant\n{% endif %}"
)
_EACH = "{% for m in messages %}"
# Markups, and whether they take a system turn.
OF_SYSTEM = {
    "refuses it": (_REFUSES + _EACH + _WRITES, False),
    "wants turns to alternate": (
        _EACH + "{% if (m.role == 'user') != (loop.index0 is even) %}{{ raise_exception('no') }}{% endif %}" + _WRITES,
        False,
    ),
    "drops it": ("{% for m in messages if m.role != 'system' %}" + _WRITES, False),
    "takes it": (_EACH + _WRITES, True),
    "writes it above itself": (
        "{% if messages[0].role == 'system' %}{% set above, messages = messages[0].content ~ '\n', messages[1:] %}"
        "{% endif %}" + _EACH + "{{ above if loop.first }}" + _WRITES,
        True,
    ),
}


@pytest.mark.parametrize("cut", ["", "| trim"])
@pytest.mark.parametrize(("source", "takes"), OF_SYSTEM.values(), ids=OF_SYSTEM)
def test_a_system_text_stands_above_the_question_where_markup_takes_no_system_turn(
    side: TextSide, source: str, takes: bool, cut: str
) -> None:
    """At training as at asking, and as the same text put there by hand; a lone reply before a question is refused."""
    own = dataclasses.replace(side, chat_markup=source.replace("CUT", cut))
    encoder = Encoder(own, own.markup())
    assert encoder.markup.system_above == (not takes)
    talk = turns("Wind north. ", "Wind N.")
    encoded = encoder.example(talk)
    assert encoded.ids[: encoded.n_prompt] == encoder.prompt(talk[:-1])
    text = encoder.tokenizer.decode(encoded.ids, keep_control=True)
    assert text.count("Be brief.") == 1
    by_hand = str(Markup(own.chat_markup).written([Turn("user", "Be brief.\n\nWind north. ")], asking=True))
    assert (text == by_hand + "Wind N.<end>") == (not takes)
    if not takes:
        with pytest.raises(InputError, match=r"expected .*, found .*system, assistant"):
            encoder.prompt([talk[0], talk[2], *talk[1:2]])


def test_markup_without_an_end_marker_is_refused(side: TextSide) -> None:
    """A model trained so would never learn to stop."""
    endless = Markup("{% for m in messages %}{{ m.role }}: {{ m.content }}\n{% endfor %}")
    encoder = Encoder(side, endless)
    assert (encoder.own_end, encoder.end_ids) == ("", side.end_ids)
    with pytest.raises(InputError, match="<end> after a learned turn"):
        encoder.example(turns("a", "b"))


@pytest.mark.parametrize("before", ["", "\n"])
def test_a_token_that_closes_replies_in_the_markup_alone_is_learned_and_ends_answers(
    side: TextSide, before: str
) -> None:
    """As in bases that were published with chat markup and never trained on it."""
    closed = Markup("{% for m in messages %}{{ m.role }}: {{ m.content }}" + before + "<turn>\n{% endfor %}")
    encoder = Encoder(side, closed)
    end = side.tokenizer.control_tokens["<turn>"]
    assert (encoder.own_end, encoder.end_ids) == ("<turn>", (*side.end_ids, end))
    encoded = encoder.example(turns("a", "b"))
    learned = [token for token, flag in zip(encoded.ids, encoded.learned, strict=True) if flag]
    assert learned == [*side.tokenizer.encode_text("b"), *side.tokenizer.encode_markup(before), end]


def test_the_markup_of_a_base_is_its_own_where_it_has_one(
    side: TextSide, chat_side: TextSide, base_folder: Path, tmp_path: Path
) -> None:
    """By `auto`, of several the default; asking for its own where there is none is an error."""
    shutil.copytree(base_folder, tmp_path / "several")
    several = [{"name": "with tools", "template": "no"}, {"name": "default", "template": CHAT}]
    (tmp_path / "several" / "tokenizer_config.json").write_text(json.dumps({"chat_template": several}))
    assert open_text_side(tmp_path / "several").markup().source == CHAT
    (tmp_path / "several" / "tokenizer_config.json").unlink()
    (tmp_path / "several" / "chat_template.json").write_text(json.dumps({"chat_template": CHAT}))
    assert open_text_side(tmp_path / "several").markup().source == CHAT
    assert chat_side.markup().source == CHAT
    assert "== " in side.markup().source == chat_side.markup("headings").source
    with pytest.raises(InputError, match="headings"):
        side.markup("own")


@pytest.mark.parametrize(("start", "alone"), [("<turn>", "<turn>"), ("", "<end>")])
def test_plain_markup_is_the_texts_and_end_markers(side: TextSide, start: str, alone: str) -> None:
    """After the start marker where there is one; a reply alone stands after a marker in any case, to be predicted."""
    encoder = Encoder(side, dataclasses.replace(side.markup("plain"), start_marker=start))
    decode = encoder.tokenizer.decode
    encoded = encoder.example(turns("Sea? ", "calm"))
    assert decode(encoded.ids, keep_control=True) == f"{start}Be brief.Sea? calm<end>"
    lone = encoder.example(turns("", "calm")[-1:])
    assert (decode(lone.ids, keep_control=True), lone.n_prompt) == (f"{alone}calm<end>", 1)
    assert lone.ids[:1] == encoder.prompt(())


@pytest.mark.parametrize("kind", ["own", "headings", "plain"])
def test_a_reply_that_goes_on_has_no_end_marker(side: TextSide, chat_side: TextSide, kind: str) -> None:
    """It is learned to its last token, and nothing else changes; a reply before it is closed."""
    chosen = chat_side if kind == "own" else side
    encoder = Encoder(chosen, chosen.markup(kind))
    talk = (*turns("a", "b")[1:], *turns("c", "d and e")[1:])
    whole, going = encoder.example(talk), encoder.example((*talk[:-1], talk[-1]._replace(open=True)))
    assert going.ids == whole.ids[:-1]
    assert whole.ids[-1] in encoder.end_ids
    assert going.spans == (whole.spans[0], (whole.spans[1][0], whole.spans[1][1] - 1))


def test_a_start_token_is_added_once(tokenizer_text: str) -> None:
    """Where the tokenizer adds one by itself, only the markup writes it."""
    values = json.loads(tokenizer_text)
    start = [{"SpecialToken": {"id": "<turn>", "type_id": 0}}, {"Sequence": {"id": "A", "type_id": 0}}]
    values["post_processor"] = {
        "type": "TemplateProcessing",
        "single": start,
        "pair": start,
        "special_tokens": {"<turn>": {"id": "<turn>", "ids": [1], "tokens": ["<turn>"]}},
    }
    tokenizer = TextTokenizer(json.dumps(values), "here")
    side = TextSide(tokenizer, (0,), "", tokenizer.token(tokenizer.start_ids[0]), "here")
    encoded = Encoder(side, side.markup()).example(turns("a", "b"))
    assert encoded.ids.count(1) == 1
    assert encoded.ids[0] == 1


STARTS = "{{ bos_token }}{% for m in messages %}{{ m.content }}<end>{% endfor %}"


@pytest.mark.parametrize("named", ["<turn>", {"content": "<turn>", "lstrip": False}, None, "<none>"])
def test_a_markup_writes_the_start_token_that_the_files_name(base_folder: Path, tmp_path: Path, named: object) -> None:
    """Also where the tokenizer adds none by itself, and headings have none."""
    folder = shutil.copytree(base_folder, tmp_path / "base")
    (folder / "tokenizer_config.json").write_text(json.dumps({"chat_template": STARTS, "bos_token": named}))
    side = open_text_side(folder)
    starts = "<turn>" if named and named != "<none>" else ""
    assert str(side.markup().written(turns("a", "b")[1:])) == f"{starts}a<end>b<end>"
    assert side.markup("headings").start_marker == ""


@pytest.mark.parametrize(
    ("kind", "says", "starts"),
    [
        ("gpt2", {}, False),
        ("gpt2", {"add_bos_token": True}, True),
        ("gpt2", {"pre": "llama-bpe"}, True),
        ("gpt2", {"pre": "llama-bpe", "add_bos_token": False}, False),
        ("llama", {}, True),
        ("llama", {"add_bos_token": False}, False),
    ],
)
def test_a_gguf_file_starts_a_text_as_its_tokenizer_does(
    tmp_path: Path, kind: str, says: dict[str, Any], starts: bool
) -> None:
    """Said in the metadata, or by the kind of tokenizer; its markup may write it in any case; all ends are ends."""
    writer = gguf.GGUFWriter(tmp_path / "a.gguf", "llama")
    writer.add_tokenizer_model(kind)
    writer.add_token_list(["<s>", "</s>", "a", "b", "ab"])
    writer.add_token_scores([0.0] * 5)
    writer.add_token_merges(["a b"])
    writer.add_token_types([3, 3, 1, 1, 1])
    writer.add_bos_token_id(0)
    for name, end in (("eos", 1), ("eot", 3), ("eom", 4)):
        writer.add_uint32(f"tokenizer.ggml.{name}_token_id", end)
    writer.add_chat_template(STARTS)
    for key, value in says.items():
        (writer.add_bool if isinstance(value, bool) else writer.add_string)(f"tokenizer.ggml.{key}", value)
    writer.write_header_to_file()
    writer.write_kv_data_to_file()
    writer.close()
    side = open_text_side(tmp_path / "a.gguf")
    assert side.end_ids == (1, 3, 4)
    assert side.markup("headings").start_marker == ("<s>" if starts else "")
    assert str(side.markup().written(turns("a", "b")[1:])) == "<s>a<end>b<end>"


def test_a_tokenizer_that_pads_or_cuts_does_neither(tokenizer_text: str) -> None:
    """Its own settings for batches are not those of a training; nothing that pads is taken for a start token."""
    values = json.loads(tokenizer_text)
    values["padding"] = {
        **{"strategy": {"Fixed": 9}, "direction": "Right", "pad_to_multiple_of": None},
        **{"pad_id": 1, "pad_type_id": 0, "pad_token": "<turn>"},
    }
    values["truncation"] = {"direction": "Right", "max_length": 2, "strategy": "LongestFirst", "stride": 0}
    plain, padding = TextTokenizer(tokenizer_text, "here"), TextTokenizer(json.dumps(values), "here")
    assert padding.start_ids == plain.start_ids == ()
    for text in ("", "west", "The wind is west, force five, and falling."):
        assert padding.encode_markup(text) == plain.encode_markup(text)
        assert padding.encode_text(text) == plain.encode_text(text)


@pytest.mark.parametrize("in_vocabulary", [False, True])
def test_tokens_beyond_the_embedding_are_none(
    base_folder: Path, tmp_path: Path, tokenizer_text: str, in_vocabulary: bool
) -> None:
    """A token for padding, which some files name, is left out; a vocabulary that is larger is refused."""
    shutil.copytree(base_folder, tmp_path, dirs_exist_ok=True)
    tokenizer = Tokenizer.from_str(tokenizer_text)
    tokenizer.add_special_tokens(["<pad>"])
    values = json.loads(tokenizer.to_str())
    if in_vocabulary:
        values["model"]["vocab"]["<pad>"] = tokenizer.token_to_id("<pad>")
    (tmp_path / "tokenizer.json").write_text(json.dumps(values))
    config = json.loads((tmp_path / "config.json").read_text())
    own, plain = open_text_side(tmp_path).tokenizer, open_text_side(base_folder).tokenizer
    assert (tokenizer.get_vocab_size(), own.vocab_size) == (config["vocab_size"] + 1, plain.vocab_size)
    assert own.encode_markup("a<pad><end>") == plain.encode_markup("a<pad><end>")
    (tmp_path / "config.json").write_text(json.dumps(config | {"vocab_size": 100}))
    with pytest.raises(
        InputError, match=r"at most 100, a row of the embedding each, found \d+; its files do not belong"
    ):
        open_text_side(tmp_path)


def a_tokenizer(kind: str) -> Tokenizer:
    """Return one with the control tokens <s> and <x>, the second beside its vocabulary, as is the word <note>."""
    words = ["<s>", "<", "s", ">", "<s", "a", "b", "x", "<unk>"]
    vocabulary = {word: index for index, word in enumerate(words)}
    made = {
        "pairs": lambda: models.BPE(vocabulary, [("<", "s"), ("<s", ">")], unk_token="<s>"),
        "words": lambda: models.WordLevel(vocabulary, "<unk>"),
        "unigrams": lambda: models.Unigram([(word, -1.0 - index) for index, word in enumerate(words)], 8),
    }
    tokenizer = Tokenizer(made[kind]())
    tokenizer.pre_tokenizer = pre_tokenizers.WhitespaceSplit()
    tokenizer.add_special_tokens(["<s>", "<x>"])
    tokenizer.add_tokens(["<note>"])
    return tokenizer


@pytest.mark.parametrize("kind", ["pairs", "words", "unigrams"])
def test_tokens_keep_their_ids_where_control_tokens_are_taken_out(kind: str) -> None:
    """Against the library's own ids: an added token takes none of another, and no text is a control token."""
    whole = a_tokenizer(kind)
    own = TextTokenizer(whole.to_str(), "here")
    assert (own.control_tokens, own.id_of("<note>")) == ({"<s>": 0, "<x>": 9}, 10)
    for text in ("a <note> b", "<note>", "a b x", "é"):
        assert own.encode_text(text) == whole.encode(text).ids
    for text in ("<s>", "a <x> <note>", "<s> <s <x"):
        assert not set(own.encode_text(text)) & {*own.control_tokens.values()}


def test_a_tokenizer_whose_words_take_blanks_is_not_exact(tokenizer_text: str) -> None:
    """It loses them, where the same without such a word loses nothing."""
    tokenizer = Tokenizer.from_str(tokenizer_text)
    assert TextTokenizer(tokenizer.to_str(), "here").is_byte_level
    tokenizer.add_tokens([AddedToken("<note>", rstrip=True)])
    own = TextTokenizer(tokenizer.to_str(), "here")
    assert own.decode(own.encode_text("a <note> b")) != "a <note> b"
    assert not own.is_byte_level


@pytest.mark.parametrize(
    ("at", "said"),
    [
        ("config.json", "a folder or a .gguf file, found .config.json"),
        ("model.safetensors", "give the folder that it stands in"),
        ("none", "existing folder or .gguf file, found nothing; .* nothing is fetched"),
        ("without/", "a tokenizer.json in the base's folder, found nothing; fetch it too"),
        ("empty/", "a config.json in the base's folder, found nothing; check the path"),
        ("above/", "a config.json in the base's folder, found nothing; is it .*above/snapshots/4d7a"),
    ],
)
def test_what_is_no_base_is_told_with_the_way_on(base_folder: Path, tmp_path: Path, at: str, said: str) -> None:
    """A file of one, a name, a folder that lacks a file."""
    shutil.copytree(base_folder, tmp_path, dirs_exist_ok=True)
    for name in ("empty", "without", "above/snapshots/4d7a"):
        (tmp_path / name).mkdir(parents=True)
    (tmp_path / "above/snapshots/4d7a/config.json").write_text("{}")
    shutil.copy(tmp_path / "config.json", tmp_path / "without")
    with pytest.raises(InputError, match=said):
        open_text_side(tmp_path / at)


def test_a_base_without_an_end_is_refused(base_folder: Path, tmp_path: Path, tokenizer_text: str) -> None:
    """And so is one whose tokenizer is damaged."""
    folder = tmp_path / "b"
    folder.mkdir()
    (folder / "tokenizer.json").write_text("{}")
    (folder / "config.json").write_text("{}")
    with pytest.raises(InputError, match="fetch the file again"):
        open_text_side(folder)
    (folder / "tokenizer.json").write_text(tokenizer_text)
    with pytest.raises(InputError, match="at least one end id"):
        open_text_side(folder)
    with pytest.raises(InputError, match=r"a folder or a .gguf file"):
        open_text_side(base_folder / "config.json")
