"""The losses of a contender on texts: in passes that fit, whatever their lengths."""

from __future__ import annotations

from pathlib import Path

import pytest
import torch

from foldkit.answering import Answerer, AnswerSettings
from foldkit.models import Decoder, likelihood
from foldkit.scoring import contender
from foldkit.scoring.contender import summed_losses, text_pieces
from foldkit.templates import read_template
from foldkit.tokens import TextSide


def test_an_answer_ends_where_the_base_has_no_more_room(decoder: Decoder, side: TextSide, tmp_path: Path) -> None:
    """Each as when it is asked alone for as many tokens as have room; prompts of like length stay together."""
    answerer = Answerer(decoder, side, read_template("question", tmp_path), side.markup())
    rows = [{"question": "wind " * n, "answer": "west"} for n in (1, 1, 40, 15, 90, 70)]
    one = contender.Contender("base", answerer)
    prompts, counts = one.prompts(rows), list[int]()
    limits = [min(200, answerer.room - len(prompt)) for prompt in prompts]
    assert limits[:2] == [200, 200] > limits[-2:]
    found = contender.contender_replies(one, rows, prompts, 200, 8, progress=counts.append)
    for place, (reply, prompt, limit) in enumerate(zip(found, prompts, limits, strict=True)):
        (alone,) = answerer.answered([prompt], AnswerSettings(limit), [place])
        assert (reply.answer, reply.n_tokens, reply.ended) == (alone.text, alone.n_tokens, alone.ended)
    assert counts == [limits.count(200), *(1 for limit in limits if limit < 200)]


def test_losses_of_pieces_are_those_of_each_alone_in_passes_of_few_tokens(
    decoder: Decoder, side: TextSide, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    """Against whole logits of one piece, float64 to 1e-9; no pass and no block of logits is larger than allowed."""
    monkeypatch.setattr(contender, "LOSSES_AT_ONCE", 40)
    monkeypatch.setattr(likelihood, "rows_at_once", lambda _: 7)
    answerer = Answerer(decoder, side, read_template("question", tmp_path), side.markup())
    whole = text_pieces(answerer, "wind 1234", 100)[0][0]
    for short in (1, 2):  # nothing predicts the only token of a piece
        cut = text_pieces(answerer, "wind 1234", len(whole) - short)
        assert [len(ids) for ids, _ in cut] == [len(whole) - short, short][:short]
    pieces = text_pieces(answerer, " ".join(map(str, range(1000, 1060))), 18)
    pieces += [
        (ids[:n], [place % 3 == 0 for place in range(n)]) for n, (ids, _) in zip(range(3, 16), pieces, strict=False)
    ]
    expected, counts = [], []
    for ids, counted in pieces:
        shares = decoder.logits(decoder(torch.tensor(ids)[None]))[0].log_softmax(-1)
        places = [place for place in range(1, len(ids)) if counted[place]]
        expected.append(-sum(float(shares[place - 1, ids[place]]) for place in places))
        counts.append(len(places))
    sizes: list[int] = []
    rows: list[int] = []
    logits = Decoder.logits
    monkeypatch.setattr(Decoder, "logits", lambda self, stream: rows.append(len(stream)) or logits(self, stream))
    decoder.register_forward_hook(lambda _module, given, _out: sizes.append(given[0].numel()))
    heard: list[int] = []
    losses, found = summed_losses(answerer, pieces, heard.append, adapted=False)
    assert found == counts
    assert losses == pytest.approx(expected, rel=1e-9)
    assert sum(heard) == len(pieces) > len(heard) == len(sizes) > 4
    assert max(sizes) <= 40
    assert max(rows) <= 7
