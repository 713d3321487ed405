"""Rows to answers: shots, batches, streaming, missing slots."""

from __future__ import annotations

import dataclasses
from pathlib import Path

import pytest
import torch

from foldkit.answering import Answerer, AnswerSettings, History, Shots, Streamed, draw_shots
from foldkit.answering.together import together, tokens_at_once
from foldkit.formats import InputError, UsageError
from foldkit.models import Cache, Sampling, generate, open_base
from foldkit.templates import read_template, template_from_mapping
from foldkit.tokens import TextSide

from ..conftest import tiny_decoder

TEMPLATE = {
    "name": "t",
    "turn": [
        {"role": "system", "text": "For {station}."},
        {"role": "user", "text": "{note}", "when": [{"slot": "context", "text": " ({context})"}]},
        {"role": "assistant", "text": "{reply}", "learned": True},
    ],
}
SIX = AnswerSettings(6)
ROWS = [{"station": f"S{i}", "note": "wind " * (i % 5 + 1), "context": "", "reply": str(i)} for i in range(9)]


@pytest.fixture
def answerer(base_folder: Path, side: TextSide) -> Answerer:
    decoder = open_base(base_folder).decoder.double()
    return Answerer(decoder, side, template_from_mapping(TEMPLATE, "here"), side.markup())


def test_answers_do_not_depend_on_their_batch_or_order(answerer: Answerer) -> None:
    """In float64: one by one, in fours, and the streamed pieces put together."""
    alone = [answerer.answers([row], SIX)[0] for row in ROWS]
    heard: list[int] = []
    assert answerer.answers(ROWS, SIX, batch=4, progress=heard.append) == alone
    assert heard == [4, 4, 1]
    assert answerer.answers(ROWS[::-1], SIX, batch=4) == alone[::-1]
    whole = "".join(answerer.streamed(ROWS[0], SIX))
    assert alone[0].startswith(whole)
    hot = AnswerSettings(6, Sampling(5.0, 3))
    drawn = answerer.answers(ROWS, hot)
    assert drawn[:1] != alone[:1]
    assert answerer.answers(ROWS, hot, batch=2) == drawn
    assert answerer.answers(ROWS[4:], hot, first=4) == drawn[4:]


def test_long_prompts_are_read_few_at_once(answerer: Answerer, monkeypatch: pytest.MonkeyPatch) -> None:
    """As many as come to so many tokens with their answers, one at least; in float64 nothing else changes."""
    assert [*together([5, 7, 5, 5], 9, 10)] == [[0, 2], [3], [1]]
    options = ["west", "north west"]
    answers, likelihoods = answerer.answers(ROWS, SIX), answerer.likelihoods(ROWS, options)
    made: list[tuple[int, int]] = []
    monkeypatch.setattr(
        "foldkit.models.generating.Cache",
        lambda spec, batch, n_tokens, *more: (
            made.append((batch, batch * n_tokens)) or Cache(spec, batch, n_tokens, *more)
        ),
    )
    for most, widest in ((150, range(3, 9)), (5, range(1, 2))):
        monkeypatch.setattr("foldkit.answering.together.MOST_TOKENS", most)
        made.clear()
        assert answerer.answers(ROWS, SIX) == answers
        assert answerer.likelihoods(ROWS, options) == [pytest.approx(own, rel=1e-9) for own in likelihoods]
        assert max(batch for batch, _ in made) in widest
        assert all(batch == 1 or n_tokens <= most for batch, n_tokens in made)


def test_a_large_base_is_asked_less_at_once() -> None:
    """By hand: keys and values of 32 layers with 32 heads of 128, and four vectors of 11,008, all in float32."""
    decoder = tiny_decoder(torch.float32)
    assert tokens_at_once(decoder) == 8192
    decoder.spec = dataclasses.replace(decoder.spec, n_layers=32, n_heads=32, n_kv_heads=32, head_dim=128, d_ff=11008)
    assert tokens_at_once(decoder) == 2**31 // (2 * 32 * 32 * 128 * 4 + 4 * 11008 * 4) == 1753


def test_an_answer_ends_before_a_stop(answerer: Answerer) -> None:
    """Whole and in pieces alike, wherever the stop stands; a text that never comes changes nothing."""
    whole = answerer.answers([ROWS[0]], AnswerSettings(12))[0]
    assert len(whole) > 4
    for start in range(1, len(whole) - 1):
        stop = whole[start : start + 2]
        expected = whole[: whole.index(stop)]
        settings = AnswerSettings(12, stops=("\u2603", stop))
        assert answerer.answers([ROWS[0]], settings)[0] == expected
        found = answerer.streamed(ROWS[0], settings)
        assert ("".join(found), found.text, found.ended) == (expected, expected, "at a stop")
    found = answerer.streamed(ROWS[0], AnswerSettings(12, stops=("\u2603",)))
    assert ("".join(found), found.ended, found.n_tokens) == (whole, "at its length", 12)


@pytest.mark.parametrize(
    ("stops", "most", "expected", "ended", "n_pieces"),
    [
        ((), 99, "Sølen: è calm\n\nMore", "by itself", 19),
        ((), 5, "Søle", "at its length", 4),
        (("\n\n", "Mo"), 99, "Sølen: è calm", "at a stop", 13),
        ((": è",), 99, "Sølen", "at a stop", 5),
        (("Møre",), 99, "Sølen: è calm\n\nMore", "by itself", 17),
    ],
)
def test_pieces_are_whole_characters_that_begin_no_stop(
    stops: tuple[str, ...], most: int, expected: str, ended: str, n_pieces: int
) -> None:
    """Of bytes as tokens, of which some are half a character; each piece comes as soon as it can be no stop."""
    tokens = (byte for byte in "Sølen: è calm\n\nMore".encode()[:most])
    found = Streamed(tokens, lambda ids: bytes(ids).decode(errors="replace"), AnswerSettings(most, stops=stops))
    pieces = list(found)
    assert ("".join(pieces), found.text, found.ended) == (expected, expected, ended)
    assert (len(pieces), "" in pieces, any("\ufffd" in piece for piece in pieces)) == (n_pieces, False, False)


def test_an_answer_that_is_left_keeps_what_came(answerer: Answerer) -> None:
    """The pieces so far are its text, and it is open."""
    found = answerer.streamed(ROWS[0], AnswerSettings(12))
    assert next(iter(found))
    assert found.ended == ""
    assert answerer.answers([ROWS[0]], AnswerSettings(12))[0].startswith(found.text)


def test_what_was_said_stands_before_a_question(answerer: Answerer) -> None:
    """In order, a system text once while it stays the same; and the answer is that of the whole prompt."""
    history = History().and_then(ROWS[0], "west").and_then({**ROWS[1], "station": "S0"}, "east")
    text = answerer.encoder.tokenizer.decode(answerer.prompt_ids(ROWS[2], history), keep_control=True)
    assert text == (
        "== system ==\nFor S0.\n\n== user ==\nwind \n\n== assistant ==\nwest<end>\n\n"
        "== user ==\nwind wind \n\n== assistant ==\neast<end>\n\n"
        "== system ==\nFor S2.\n\n== user ==\nwind wind wind \n\n== assistant ==\n"
    )
    ids = generate(answerer.decoder, [answerer.prompt_ids(ROWS[2], history)], answerer.encoder.end_ids, 6)[0]
    assert answerer.answers([ROWS[2]], SIX, before=history)[0] == answerer.encoder.tokenizer.decode(ids)


def test_the_likelihood_of_an_answer_is_that_of_its_tokens(answerer: Answerer) -> None:
    """Against the logits one by one, the end marker included; in any company of options and of rows."""
    options = ["west", "a longer answer", ""]
    (found,) = answerer.likelihoods(ROWS[2:3], options)
    for own, batch in (([ROWS[2]], 16), ([*ROWS[3:], ROWS[2], ROWS[0]], 4)):
        assert answerer.likelihoods(own, options[:1], batch=batch)[-1 if batch == 16 else -2] == pytest.approx(
            found[:1], rel=1e-9
        )
    assert answerer.likeliest(ROWS[2:3], options) == [options[found.index(max(found))]]
    prompt = answerer.prompt_ids(ROWS[2])
    for option, likelihood in zip(options, found, strict=True):
        ids = [*prompt, *answerer.encoder.tokenizer.encode_text(option), answerer.encoder.end_ids[0]]
        logits = answerer.decoder.logits(answerer.decoder(torch.tensor([ids])))[0].log_softmax(-1)
        expected = sum(float(logits[place - 1, ids[place]]) for place in range(len(prompt), len(ids)))
        assert likelihood == pytest.approx(expected, rel=1e-9)


def test_a_reply_to_hold_has_its_end_marker_unless_it_goes_on(answerer: Answerer, side: TextSide) -> None:
    """As it was learned, and what belongs to the reply is all after the prompt."""
    pieces = Answerer(answerer.decoder, side, read_template("pieces", Path()), side.markup("plain"))
    ids, flags = pieces.with_reply({"text": "x", "goes_on": ""}, "wind west")
    assert pieces.with_reply({"text": "x", "goes_on": "yes"}, "wind west") == (ids[:-1], flags[:-1])
    assert (ids[-1] in side.end_ids, flags) == (True, [False] + [True] * (len(ids) - 1))


def test_shots_stand_before_the_question_in_the_same_form(answerer: Answerer) -> None:
    """Every system text at the head of its own user turn; the target of a shot is in the prompt, the row's is not."""
    shots = Shots((ROWS[7], ROWS[8]))
    text = answerer.encoder.tokenizer.decode(answerer.prompt_ids(ROWS[1], shots), keep_control=True)
    assert text == (
        "== user ==\nFor S7.\n\nwind wind wind \n\n== assistant ==\n7<end>\n\n"
        "== user ==\nFor S8.\n\nwind wind wind wind \n\n== assistant ==\n8<end>\n\n"
        "== user ==\nFor S1.\n\nwind wind \n\n== assistant ==\n"
    )


def test_shots_are_drawn_by_a_seed() -> None:
    """None twice, the same for the same seed, refused when there are too few rows."""
    drawn = draw_shots(ROWS, 4, 0).rows
    assert len({row["station"] for row in drawn}) == 4
    assert drawn == draw_shots(ROWS, 4, 0).rows != draw_shots(ROWS, 4, 1).rows
    assert len(draw_shots(ROWS, 9, 0).rows) == 9
    with pytest.raises(ValueError, match="9 rows"):
        draw_shots(ROWS, 10, 0)


def test_questions_that_cannot_be_asked_are_refused(answerer: Answerer) -> None:
    """A missing or blank slot by name, an optional one not; a prompt or an answer to hold that leaves no room."""
    assert answerer.prompt_ids({"station": "A", "note": "b"})
    for row in ({"note": "b"}, {"note": "b", "station": " "}):
        with pytest.raises(InputError, match="question: station: expected a text"):
            answerer.prompt_ids(row)
        with pytest.raises(InputError, match="question: station: expected a text"):
            answerer.likelihoods([row], ["west"])
    most = answerer.room - len(answerer.prompt_ids(ROWS[0]))
    answerer.check(ROWS[0], AnswerSettings(most), "row 7")
    with pytest.raises(InputError, match="row 7: length: expected at most 256 tokens in all"):
        answerer.check(ROWS[0], AnswerSettings(most + 1), "row 7")
    with pytest.raises(InputError, match="at most 256 tokens in all"):
        answerer.answers([ROWS[0]], AnswerSettings(400))
    with pytest.raises(InputError, match="at most 256 tokens in all"):
        answerer.streamed(ROWS[0], AnswerSettings(400))
    for wrong in (0, 2**20 + 1):
        with pytest.raises(UsageError, match="max_tokens: expected 1 to 1048576"):
            AnswerSettings(wrong)
    with pytest.raises(InputError, match="at most 256 tokens in all"):
        answerer.likelihoods([ROWS[0]], ["west", "wind " * 250])


def test_a_broken_conversation_is_refused(answerer: Answerer, side: TextSide) -> None:
    """With what is wrong in it."""
    turns = {"name": "talk", "turn": [{"each": "messages"}]}
    talk = Answerer(answerer.decoder, side, template_from_mapping(turns, "here"), side.markup())
    with pytest.raises(InputError, match=r"question: conversation: .* message 1 has the role 'boss'"):
        talk.prompt_ids({"messages": '[{"role": "boss", "content": "wind"}]'})
