"""One thing being scored: the base, the base with shots, an adapter."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass

from foldkit.answering.answerer import NO_SHOTS, Answerer
from foldkit.answering.settings import AnswerSettings
from foldkit.answering.shots import Shots
from foldkit.models.likelihood import pad, token_losses

from .measures import Reply

Row = Mapping[str, str]


@dataclass(frozen=True)
class Contender:
    """A name, whether the adapter is on, and the worked examples in its prompt."""

    name: str
    adapted: bool = False
    shots: Shots = NO_SHOTS


def contender_replies(
    contender: Contender,
    answerer: Answerer,
    rows: Sequence[Row],
    max_tokens: int,
    batch: int,
    progress: Callable[[int], None] | None = None,
    *,
    ranked: bool = False,
) -> tuple[list[Reply], float]:
    """Return what the contender gives for every row, and the mean count of prompt tokens.

    With `ranked` the loss of each row's rejected reply is found too.
    """
    settings = AnswerSettings(max_tokens)
    answers = answerer.answers(
        rows, settings, adapted=contender.adapted, before=contender.shots, batch=batch, progress=progress
    )
    template = answerer.template
    losses = reply_losses(contender, answerer, rows, template.target, batch)
    worse: list[list[float]] = [[] for _ in rows]
    if ranked:
        worse = reply_losses(contender, answerer, rows, template.rejected, batch)
    replies = [
        Reply(template.target(row), answer, sum(values), len(values), sum(others), len(others))
        for row, answer, values, others in zip(rows, answers, losses, worse, strict=True)
    ]
    n_prompt = sum(len(answerer.prompt_ids(row, contender.shots)) for row in rows)
    return replies, n_prompt / len(rows)


def reply_losses(
    contender: Contender, answerer: Answerer, rows: Sequence[Row], reply: Callable[[Row], str], batch: int
) -> list[list[float]]:
    """Return the loss (nats) of every token of each row's reply, after the contender's own prompt."""
    encoded = [answerer.with_reply(row, reply(row), contender.shots) for row in rows]
    order = sorted(range(len(rows)), key=lambda index: len(encoded[index][0]))
    found: list[list[float]] = [[] for _ in rows]
    with answerer.switched(contender.adapted):
        for start in range(0, len(order), batch):
            chosen = order[start : start + batch]
            piece = pad([encoded[i][0] for i in chosen], [encoded[i][1] for i in chosen])
            losses, _ = token_losses(answerer.decoder, piece)
            for index, values in zip(chosen, losses, strict=True):
                found[index] = values
    return found


def text_loss(answerer: Answerer, text: str, window: int, *, adapted: bool) -> float:
    """Return the loss per token (nats) of running text in pieces of `window` tokens, first tokens not counted."""
    ids = answerer.encoder.tokenizer.encode_text(text)
    pieces = [ids[start : start + window] for start in range(0, len(ids), window) if len(ids) - start > 1]
    total, count = 0.0, 0
    with answerer.switched(adapted):
        for start in range(0, len(pieces), 4):
            chosen = pieces[start : start + 4]
            losses, _ = token_losses(answerer.decoder, pad(chosen, [[True] * len(piece) for piece in chosen]))
            total += sum(map(sum, losses))
            count += sum(map(len, losses))
    return total / count
