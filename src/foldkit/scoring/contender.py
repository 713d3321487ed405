"""One thing being scored, and what it gives for every row; kept as it comes, so that nothing is asked twice."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Iterator, Mapping, Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import Any

from foldkit.answering.answerer import NO_SHOTS, Answerer, Before
from foldkit.answering.settings import AnswerSettings
from foldkit.answering.together import together, tokens_at_once
from foldkit.formats import InputError, all_kept, keep, read_jsonl
from foldkit.models.batch import pad
from foldkit.models.likelihood import token_losses

from .measures import Reply

Row = Mapping[str, str]
# Ids, and which of them count.
Piece = tuple[Sequence[int], Sequence[bool]]
# Tokens of texts whose losses are found at once: more are no faster.
LOSSES_AT_ONCE = 2048


@dataclass(frozen=True)
class Contender:
    """A name, who answers, whether its adapter is on, and the worked examples in its prompt."""

    name: str
    answerer: Answerer
    adapted: bool = False
    shots: Before = NO_SHOTS

    def prompts(self, rows: Iterable[Row]) -> list[tuple[int, ...]]:
        """Return the ids that each row is asked by."""
        return [self.answerer.prompt_ids(row, self.shots) for row in rows]


def contender_replies(
    contender: Contender,
    rows: Sequence[Row],
    prompts: Sequence[tuple[int, ...]],
    max_tokens: int,
    batch: int,
    kept_at: Path | None = None,
    progress: Callable[[int], None] | None = None,
    *,
    ranked: bool = False,
) -> list[Reply]:
    """Return what the contender gives for every row, asked by its `prompts`.

    An answer has at most `max_tokens`, fewer where the base has no room for so many. Rows of like prompt length are
    asked together, `batch` of them or as many as memory has room for; each prompt is read once, for the answer and for
    the losses. With `kept_at` each batch is appended to that file, and batches that stand there whole are not asked
    again: a scoring that was stopped goes on. With `ranked` the loss of each row's rejected reply is found too.
    """
    answerer = contender.answerer
    found: dict[int, dict[str, Any]] = _kept(kept_at)
    for chosen in _batches([len(prompt) + max_tokens for prompt in prompts], batch, answerer):
        if not all(index in found for index in chosen):
            most = min(max_tokens, *(answerer.room - len(prompts[index]) for index in chosen))
            made = _asked(contender, rows, prompts, chosen, most, ranked=ranked)
            found |= made
            if kept_at:
                keep(kept_at, [[index, made[index]] for index in chosen])
        if progress:
            progress(len(chosen))
    return [Reply(answerer.template.target(row), row=row, **found[index]) for index, row in enumerate(rows)]


def _batches(lengths: Sequence[int], most: int, answerer: Answerer) -> Iterator[list[int]]:
    """Yield places of prompts of these lengths, answers included; one that exceeds the base's room stands alone."""
    for chosen in together(lengths, most, tokens_at_once(answerer.decoder)):
        whole = [place for place in chosen if lengths[place] <= answerer.room]
        yield from filter(None, (whole, *([place] for place in chosen if lengths[place] > answerer.room)))


def _asked(
    contender: Contender,
    rows: Sequence[Row],
    prompts: Sequence[tuple[int, ...]],
    chosen: Sequence[int],
    max_tokens: int,
    *,
    ranked: bool,
) -> dict[int, dict[str, Any]]:
    """Ask some rows together: answer, and losses of the target."""
    answerer, template = contender.answerer, contender.answerer.template
    own = [rows[index] for index in chosen]
    replies = [
        [_after(prompts[index], contender, row, of(row)) for index, row in zip(chosen, own, strict=True)]
        for of in (template.target, *([template.rejected] if ranked else []))
    ]
    with answerer.switched(contender.adapted):
        asked = [prompts[index] for index in chosen]
        answers, held = answerer.answered_and_held(asked, replies, AnswerSettings(max_tokens), chosen)
    losses, hits = held[0]
    worse = held[1][0] if ranked else [[] for _ in own]
    parts = zip(chosen, answers, losses, hits, worse, strict=True)
    return {
        index: {
            "answer": answer.text,
            "losses": values,
            "hits": right,
            "rejected": others,
            "n_tokens": answer.n_tokens,
            "ended": answer.ended,
        }
        for index, answer, values, right, others in parts
    }


def _after(prompt: tuple[int, ...], contender: Contender, row: Row, reply: str) -> tuple[int, ...]:
    """Return the ids of a reply after its prompt, its end marker among them."""
    ids, _ = contender.answerer.with_reply(row, reply, contender.shots)
    assert ids[: len(prompt)] == prompt, "a prompt has the same ids with its reply as at asking"
    return ids[len(prompt) :]


def _kept(path: Path | None) -> dict[int, dict[str, Any]]:
    """Return the replies of the batches that a file holds whole, by row."""
    return {index: reply for replies in (all_kept(path) if path else ()) for index, reply in replies}


def replies_from_file(path: Path, rows: Sequence[tuple[int, Row]], target: Callable[[Row], str]) -> list[Reply]:
    """Return the answers of a JSON-lines file with `row` and `answer`, one for each row.

    Raises InputError for a line without them, a row twice, and a row without an answer.
    """
    answers: dict[int, str] = {}
    for number, line in enumerate(read_jsonl(path), 1):
        where = f"{path}, line {number}"
        if not isinstance(line.get("row"), int) or not isinstance(line.get("answer"), str):
            raise InputError(where, "line", "row, a whole number, and answer, a text", line, "write both in each line")
        if line["row"] in answers:
            raise InputError(where, "row", "each row once", line["row"], "remove one of the two")
        answers[line["row"]] = line["answer"]
    missing = [number for number, _ in rows if number not in answers]
    if missing:
        todo = "answer these rows too; foldkit split --rows tells the rows of test"
        raise InputError(path, "rows", "an answer to every test row", f"none to {len(missing)}: {missing[:8]}", todo)
    return [Reply(target(row), answers[number], row=row) for number, row in rows]


def text_pieces(answerer: Answerer, text: str, window: int) -> list[Piece]:
    """Return a running text in pieces of `window` tokens. First tokens are not counted, for nothing predicts them."""
    ids = answerer.encoder.tokenizer.encode_text(text)
    pieces = [ids[start : start + window] for start in range(0, len(ids), window) if len(ids) - start > 1]
    return [(piece, [True] * len(piece)) for piece in pieces]


def summed_losses(
    answerer: Answerer, pieces: Sequence[Piece], progress: Callable[[int], None], *, adapted: bool
) -> tuple[list[float], list[int]]:
    """Return the summed loss (nats) and the count of counted tokens of each piece; `progress` hears of each pass."""
    found: dict[int, list[float]] = {}
    with answerer.switched(adapted):
        for chosen in together([len(ids) for ids, _ in pieces], len(pieces), LOSSES_AT_ONCE):
            ids, counted = zip(*(pieces[index] for index in chosen), strict=True)
            found |= zip(chosen, token_losses(answerer.decoder, pad(ids, counted))[0], strict=True)
            progress(len(chosen))
    losses = [found[index] for index in range(len(pieces))]
    return list(map(sum, losses)), list(map(len, losses))
