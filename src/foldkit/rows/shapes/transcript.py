"""Transcripts: rows of who said what, turned into conversations, one example for each reply that is to be learned."""

from __future__ import annotations

import itertools
import json
import math
import re
from collections.abc import Iterable, Iterator, Sequence
from dataclasses import dataclass
from typing import NamedTuple

import pandas as pd

from foldkit.formats import InputError, UsageError, near_name
from foldkit.formats.settings import within

from ..tables import column, times
from .contract import renumbered
from .talks import SYSTEM, Line, Talk, talks_of
from .threads import Answering, threads_of


@dataclass(frozen=True)
class TranscriptSettings:
    """The columns of `speaker`, `text` and, where there are any, `time` and `talk`, which conversation it is.

    Where messages say which one they answer, `reply_to` is the column that does so, by the `number` of that one,
    another column; numbers are those of a `talk` where that is named. Before a reply then stands what it answers.

    `learned` names the speakers whose words are replies to learn. A silence of more than `gap` seconds starts a new
    conversation (0: none does), and so does what a speaker named `system` says, which is its system text. Words among
    `fillers` are dropped. `earlier` is how many turns before a reply stay as its context.
    """

    learned: tuple[str, ...]
    speaker: str = "speaker"
    text: str = "text"
    time: str = ""
    talk: str = ""
    number: str = ""
    reply_to: str = ""
    gap: float = 0.0
    fillers: tuple[str, ...] = ()
    earlier: int = 6

    def __post_init__(self) -> None:
        within(self.earlier, 1, 10**6, "[rows.transcript]", "earlier")
        within(self.gap, 0, math.inf, "[rows.transcript]", "gap")
        if not self.learned:
            raise UsageError("[rows.transcript]", "learned", "names of speakers", "none", 'for example ["desk"]')
        if self.gap and not self.time:
            raise UsageError("[rows.transcript]", "gap", "a column of times", None, "name it with time")
        if bool(self.number) != bool(self.reply_to):
            todo = "name both columns, or neither"
            raise UsageError("[rows.transcript]", "reply_to", "number and reply_to", self.number or self.reply_to, todo)
        if self.reply_to and self.gap:
            todo = "leave it out, for what a message answers says which talk it is of"
            raise UsageError("[rows.transcript]", "gap", "0 with reply_to", self.gap, todo)


class _Said(NamedTuple):
    """What one side said without a break, and the number of its first row."""

    row: int
    role: str
    text: str

    @property
    def learned(self) -> bool:
        return self.role == "assistant"


def conversations(table: pd.DataFrame, settings: TranscriptSettings) -> tuple[pd.DataFrame, dict[int, str]]:
    """Return rows with `messages`, `talk` and `source_row`, the row in which the learned reply begins.

    What one side says in several rows is one turn; where several speakers stand on the other side, each is named.
    Line breaks stay. Raises UsageError for a learned speaker who says nothing, and InputError for a time that is none.
    """
    speakers = column(table, settings.speaker, "[rows.transcript] speaker").str.strip()
    for name in settings.learned:
        if not (speakers == name).any():
            known = sorted(set(speakers))
            raise UsageError("[rows.transcript]", "learned", "a speaker of the rows", name, near_name(name, known))
    texts = [_cleaned(text, settings.fillers) for text in column(table, settings.text, "[rows.transcript] text")]
    cells = zip(table.index.tolist(), _roles(speakers, settings), speakers.tolist(), texts, strict=True)
    lines = [Line(*line) for line in cells]
    left_out = {line.row: "nothing said" for line in lines if not line.text}
    rows = []
    for talk in _talks(table, lines, settings):
        opening, said = _parted(_turns(talk.lines))
        if said and said[0].learned and (len(said) == 1 or not talk.last_alone):
            left_out[said[0].row] = "a reply to nothing: its talk begins with it"
        for index in _replies(said):
            if index == len(said) - 1 or not talk.last_alone:
                messages = _messages(opening, said[max(0, index - settings.earlier) : index + 1])
                rows.append({"messages": messages, "talk": talk.name, "source_row": str(said[index].row)})
    return renumbered(rows, ("messages", "talk", "source_row")), left_out


def _roles(speakers: pd.Series[str], settings: TranscriptSettings) -> list[str]:
    """Return for every row whose turn it is of."""
    learned, system = speakers.isin(settings.learned), speakers.str.lower() == SYSTEM
    return ["assistant" if own else SYSTEM if opens else "user" for own, opens in zip(learned, system, strict=True)]


def _talks(table: pd.DataFrame, lines: Sequence[Line], settings: TranscriptSettings) -> Iterable[Talk]:
    """Return the conversations, or the threads where messages say what they answer; raises InputError as it says."""
    if not settings.reply_to:
        names = _cells(table, settings, "talk") if settings.talk else [""] * len(lines)
        at = (
            times(column(table, settings.time, "[rows.transcript] time")).tolist()
            if settings.time
            else [0.0] * len(lines)
        )
        return talks_of(lines, names, at, settings.gap)
    answering = _answering(table, settings)
    if twice := answering.repeated():
        first, second = (lines[place].row for place in twice)
        where, todo = f"rows {first} and {second}, column {settings.number}", "name the column of talks with talk"
        raise InputError(where, "number", "one of its own for each message", answering.numbers[twice[0]], todo)
    return threads_of(lines, answering, settings.earlier)


def _answering(table: pd.DataFrame, settings: TranscriptSettings) -> Answering:
    """Return which message each one answers; a number is that of its talk, where there are any."""
    names = _cells(table, settings, "talk") if settings.talk else [""] * len(table)
    numbers, reply_to = (
        [f"{name} {cell}".strip() if cell.strip() else "" for name, cell in zip(names, cells, strict=True)]
        for cells in (_cells(table, settings, "number"), _cells(table, settings, "reply_to"))
    )
    return Answering(numbers, reply_to)


def are_threads(table: pd.DataFrame, number: str, reply_to: str, talk: str = "") -> bool:
    """Tell whether each number stands once, in a talk where there is one, and half of what is answered is there."""
    answering = _answering(table, TranscriptSettings(("",), number=number, reply_to=reply_to, talk=talk))
    return not answering.repeated() and answering.share_known() >= 0.5


def _cells(table: pd.DataFrame, settings: TranscriptSettings, key: str) -> list[str]:
    return list(column(table, getattr(settings, key), f"[rows.transcript] {key}"))


def _cleaned(text: str, fillers: Sequence[str]) -> str:
    """Return the text without fillers, the comma and the blanks after one dropped too, and without blanks around it."""
    if fillers:
        words = "|".join(re.escape(word) for word in sorted(fillers, key=len, reverse=True))
        text = re.sub(rf"(?<!\w)(?:{words})(?!\w)[,…]*[^\S\n]*", "", text, flags=re.IGNORECASE)
    return text.strip()


def _turns(lines: Sequence[Line]) -> list[_Said]:
    """Merge what one side says in a row; several speakers on the side that is not learned are named."""
    many = len({line.speaker for line in lines if line.role == "user"}) > 1
    turns = []
    for role, group in itertools.groupby(lines, key=lambda line: line.role):
        parts = list(group)
        each = [
            (name, _joined([line.text for line in words]))
            for name, words in itertools.groupby(parts, key=lambda line: line.speaker)
        ]
        named = many and role == "user"
        text = "\n".join(f"{name}: {text}" if named else text for name, text in each)
        turns.append(_Said(parts[0].row, role, text))
    return turns


def _joined(texts: Sequence[str]) -> str:
    """Return what was said in several rows as one text: in one line, where each of them is one."""
    return ("\n" if any("\n" in text for text in texts) else " ").join(texts)


def _parted(said: list[_Said]) -> tuple[list[_Said], list[_Said]]:
    """Return the system text of a talk, which only ever begins one, and what is said after it."""
    n = sum(turn.role == SYSTEM for turn in said)
    return said[:n], said[n:]


def _replies(said: Sequence[_Said]) -> Iterator[int]:
    """Yield the places of the learned turns that answer something."""
    return (index for index, turn in enumerate(said) if turn.learned and index)


def _messages(opening: Sequence[_Said], said: Sequence[_Said]) -> str:
    """Return the turns as JSON, only the last one to be learned; they begin with the side that is not."""
    turns = [*opening, *said[1 if said[0].learned else 0 :]]
    messages: list[dict[str, object]] = [{"role": turn.role, "content": turn.text} for turn in turns]
    for message, turn in zip(messages[:-1], turns, strict=False):
        if turn.learned:
            message["learned"] = False
    return json.dumps(messages, ensure_ascii=False)
