"""Markup and texts are encoded apart, and have the ids that the library gives the whole rendered text."""

from __future__ import annotations

from collections.abc import Sequence

import pytest
from jinja2 import Template
from tokenizers import AddedToken, Tokenizer, decoders, models, normalizers, pre_tokenizers, trainers

from foldkit.templates import HEADINGS, PLAIN, Markup, Turn
from foldkit.tokens import Encoder, TextSide, TextTokenizer

MARK, END = "\u2581", "</s>"
TALKS = {
    "one reply": [("user", "how are you"), ("assistant", "calm it is")],
    "two replies": [("user", "how"), ("assistant", "calm"), ("user", "and the wind"), ("assistant", "west")],
    "after a system text": [("system", "be brief"), ("user", "how are you"), ("assistant", "calm it is")],
}
MARKUPS = {
    "headings": HEADINGS,
    "plain": PLAIN,
    "control tokens that take blanks": "{% for m in messages %}<|{{ m.role }}|>\n{{ m.content }}</s>\n{% endfor %}"
    "{% if add_generation_prompt %}<|assistant|>\n{% endif %}",
    "marks in words": "{% for m in messages %}[{{ m.role }}]\n{{ m.content }}</s>\n{% endfor %}"
    "{% if add_generation_prompt %}[assistant]\n{% endif %}",
    "blanks around texts": "{{ bos_token }}{% for m in messages %}{% if m.role == 'assistant' %} {{ m.content }} </s>"
    "{% else %}[ask] {{ m.content }} [/ask]{% endif %}{% endfor %}",
    "a blank before a reply": "{% for m in messages %}{{ m.role | upper }}: {{ m.content }}"
    "{% if m.role == 'assistant' %}</s>{% else %} {% endif %}{% endfor %}"
    "{% if add_generation_prompt %}ASSISTANT:{% endif %}",
    "a new line before a reply": "{% for m in messages %}{{ m.role }}:\n{{ m.content }}</s>\n{% endfor %}"
    "{% if add_generation_prompt %}assistant:{% endif %}",
}
# How a tokenizer puts a blank before texts: a normalizer, a pre-tokenizer.
BLANKS = {
    "before each part": (normalizers.Sequence([normalizers.Prepend(MARK), normalizers.Replace(" ", MARK)]), None),
    "before the first part": (None, pre_tokenizers.Metaspace(MARK, "first", split=False)),
    "before each, by a pre-tokenizer": (None, pre_tokenizers.Metaspace(MARK, "always", split=False)),
    "before each, of bytes": (None, pre_tokenizers.ByteLevel(add_prefix_space=True)),
    "before none": (normalizers.Replace(" ", MARK), None),
    "before none, of bytes": (None, pre_tokenizers.ByteLevel(add_prefix_space=False)),
}


def a_tokenizer(blanks: str) -> Tokenizer:
    """Return a tokenizer whose words begin with a blank, if with any, as those of published bases do."""
    bytewise = blanks.endswith("of bytes")
    tokenizer = Tokenizer(models.BPE(unk_token=None if bytewise else "<unk>"))
    tokenizer.normalizer = None if bytewise else normalizers.Replace(" ", MARK)
    marked = pre_tokenizers.Split(MARK, "merged_with_next")
    lines = pre_tokenizers.Split("\n", "isolated")
    words = pre_tokenizers.ByteLevel(add_prefix_space=False) if bytewise else pre_tokenizers.Sequence([lines, marked])
    tokenizer.pre_tokenizer = words
    said = [text for talk in TALKS.values() for _, text in talk]
    rendered = [text for markup in MARKUPS.values() for text in (markup, *said)]
    alphabet = pre_tokenizers.ByteLevel.alphabet() if bytewise else []
    specials = ["<unk>", "<s>", END]
    trainer = trainers.BpeTrainer(
        vocab_size=500, special_tokens=specials, show_progress=False, initial_alphabet=alphabet
    )
    tokenizer.train_from_iterator([*rendered, *said * 9, "SYSTEM USER ASSISTANT: == ask"], trainer)
    tokenizer.normalizer, tokenizer.pre_tokenizer = BLANKS[blanks]
    joined = [decoders.Replace(MARK, " "), decoders.Fuse(), decoders.Strip(" ", left=0 if "none" in blanks else 1)]
    tokenizer.decoder = decoders.ByteLevel() if bytewise else decoders.Sequence(joined)
    tokenizer.add_special_tokens([AddedToken(f"<|{role}|>", rstrip=True) for role in ("system", "user", "assistant")])
    return tokenizer


def rendered(markup: str, talk: Sequence[tuple[str, str]], *, asking: bool) -> str:
    """Return the whole text, by the library of templates alone."""
    messages = [{"role": role, "content": text} for role, text in talk]
    values = {"start_marker": "<s>", "bos_token": "<s>", "end_marker": END, "add_generation_prompt": asking}
    return Template(markup, trim_blocks=True, lstrip_blocks=True).render(messages=messages, **values)


@pytest.mark.parametrize("blanks", BLANKS)
@pytest.mark.parametrize("markup", MARKUPS)
def test_prompts_and_examples_have_the_ids_of_the_whole(blanks: str, markup: str) -> None:
    """As far as the last end marker; and what is learned is the reply, which comes back."""
    whole = a_tokenizer(blanks)
    tokenizer = TextTokenizer(whole.to_str(), "here")
    end = whole.token_to_id(END)
    side = TextSide(tokenizer, (end,), MARKUPS[markup], "<s>", "here")
    encoder = Encoder(side, Markup(MARKUPS[markup], "<s>", END))
    for talk in TALKS.values():
        turns = [Turn(role, text, learned=role == "assistant") for role, text in talk]
        asked = whole.encode(rendered(MARKUPS[markup], talk[:-1], asking=True), add_special_tokens=False).ids
        assert list(encoder.prompt(turns[:-1])) == asked
        written = whole.encode(rendered(MARKUPS[markup], talk, asking=False), add_special_tokens=False).ids
        example = encoder.example(turns)
        assert list(example.ids) == written[: len(written) - written[::-1].index(end)]
        assert example.n_prompt == len(asked)
        learned = [example.ids[start : stop - 1] for start, stop in example.spans]
        assert [encoder.reply(ids).strip() for ids in learned] == [text for role, text in talk if role == "assistant"]


def test_texts_by_themselves_have_other_ids() -> None:
    """Known-bad control: encoded as at the beginning, a blank stands before each text that is not in the whole."""
    whole = a_tokenizer("before each part")
    tokenizer = TextTokenizer(whole.to_str(), "here")
    text = rendered(MARKUPS["marks in words"], TALKS["one reply"][:1], asking=True)
    apart = [*whole.encode("[user]\n").ids, *tokenizer.encode_text("how are you"), whole.token_to_id(END)]
    assert whole.encode(text).ids[: len(apart)] != apart
