"""Rows to answers: shots, batches, streaming, missing slots."""

from __future__ import annotations

from pathlib import Path

import pytest
import torch

from foldkit.answering import Answerer, Shots, draw_shots
from foldkit.formats import InputError
from foldkit.models import Sampling, open_base
from foldkit.templates import template_from_mapping
from foldkit.tokens import TextSide

TEMPLATE = {
    "name": "t",
    "turn": [
        {"role": "system", "text": "For {station}."},
        {"role": "user", "text": "{note}", "when": [{"slot": "context", "text": " ({context})"}]},
        {"role": "assistant", "text": "{reply}", "learned": True},
    ],
}
ROWS = [{"station": f"S{i}", "note": "wind " * (i % 5 + 1), "context": "", "reply": str(i)} for i in range(9)]


@pytest.fixture
def answerer(base_folder: Path, side: TextSide) -> Answerer:
    decoder = open_base(base_folder).decoder.double()
    return Answerer(decoder, side, template_from_mapping(TEMPLATE, "here"), side.markup())


def test_answers_do_not_depend_on_their_batch_or_order(answerer: Answerer) -> None:
    """In float64: one by one, in fours, and the streamed pieces put together."""
    alone = [answerer.answers([row], 6)[0] for row in ROWS]
    heard: list[int] = []
    assert answerer.answers(ROWS, 6, batch=4, progress=heard.append) == alone
    assert heard == [4, 4, 1]
    assert answerer.answers(ROWS[::-1], 6, batch=4) == alone[::-1]
    whole = "".join(answerer.streamed(ROWS[0], 6))
    assert alone[0].startswith(whole)
    assert answerer.answers(ROWS[:1], 6, sampling=Sampling(5.0, 3)) != alone[:1]
    drawn = answerer.answers(ROWS, 6, sampling=Sampling(5.0, 3))
    assert answerer.answers(ROWS, 6, batch=2, sampling=Sampling(5.0, 3)) == drawn


def test_an_answer_ends_before_a_stop(answerer: Answerer) -> None:
    """Whole and in pieces alike, wherever the stop stands; a text that never comes changes nothing."""
    whole = answerer.answers([ROWS[0]], 12)[0]
    assert len(whole) > 4
    for start in range(1, len(whole) - 1):
        stop = whole[start : start + 2]
        expected = whole[: whole.index(stop)]
        assert answerer.answers([ROWS[0]], 12, stops=["\u2603", stop])[0] == expected
        assert "".join(answerer.streamed(ROWS[0], 12, stops=["\u2603", stop])) == expected
    assert answerer.answers([ROWS[0]], 12, stops=["\u2603"])[0] == whole


def test_the_likelihood_of_an_answer_is_that_of_its_tokens(answerer: Answerer) -> None:
    """Against the logits one by one, the end marker included; in any company."""
    options = ["west", "a longer answer", ""]
    found = answerer.chosen(ROWS[2], options)
    assert answerer.chosen(ROWS[2], options[:1]) == pytest.approx(found[:1], rel=1e-9)
    prompt = answerer.prompt_ids(ROWS[2])
    for option, likelihood in zip(options, found, strict=True):
        ids = [*prompt, *answerer.encoder.tokenizer.encode_text(option), answerer.encoder.end_ids[0]]
        logits = answerer.decoder.logits(answerer.decoder(torch.tensor([ids])))[0].log_softmax(-1)
        expected = sum(float(logits[place - 1, ids[place]]) for place in range(len(prompt), len(ids)))
        assert likelihood == pytest.approx(expected, rel=1e-9)


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
    with pytest.raises(ValueError, match="9 rows"):
        draw_shots(ROWS, 10, 0)


def test_questions_that_cannot_be_asked_are_refused(answerer: Answerer) -> None:
    """A missing slot by name, an optional one not; a prompt that leaves no room."""
    assert answerer.prompt_ids({"station": "A", "note": "b"})
    with pytest.raises(InputError, match="a value for station"):
        answerer.prompt_ids({"note": "b"})
    with pytest.raises(InputError, match="at most 256 tokens in all"):
        answerer.answers([ROWS[0]], 400)
