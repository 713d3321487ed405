"""Transcripts: rows of who said what, turned into conversations, one example for each reply that is to be learned."""

from __future__ import annotations

import itertools
import json
import math
import re
from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from typing import NamedTuple

import pandas as pd

from foldkit.formats import UsageError, near_name
from foldkit.formats.settings import within

from ..tables import column, times
from .contract import renumbered


@dataclass(frozen=True)
class TranscriptSettings:
    """The columns of `speaker`, `text` and, where there are any, `time` and `talk`, which conversation it is.

    `learned` names the speakers whose words are replies to learn. A silence of more than `gap` seconds starts a new
    conversation (0: none does). Words among `fillers` are dropped. `earlier` is how many turns before a reply stay as
    its context.
    """

    learned: tuple[str, ...]
    speaker: str = "speaker"
    text: str = "text"
    time: str = ""
    talk: str = ""
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


class _Said(NamedTuple):
    """What one side said without a break, and the number of its first row."""

    row: int
    learned: bool
    text: str


def conversations(table: pd.DataFrame, settings: TranscriptSettings) -> tuple[pd.DataFrame, dict[int, str]]:
    """Return rows with `messages`, `talk` and `source_row`, the row in which the learned reply begins.

    What one side says in several rows is one turn; where several speakers stand on the other side, each is named.
    Raises UsageError for a learned speaker who says nothing, and InputError for a time that is none.
    """
    speakers = column(table, settings.speaker, "[rows.transcript] speaker").str.strip()
    for name in settings.learned:
        if not (speakers == name).any():
            known = sorted(set(speakers))
            raise UsageError("[rows.transcript]", "learned", "a speaker of the rows", name, near_name(name, known))
    texts = [_cleaned(text, settings.fillers) for text in column(table, settings.text, "[rows.transcript] text")]
    frame = pd.DataFrame({"speaker": speakers, "text": texts, "talk": _talks(table, settings)}, index=table.index)
    left_out = {int(row): "nothing said" for row in frame.index[frame["text"] == ""]}
    frame = frame[frame["text"] != ""]
    rows = []
    for talk, lines in frame.groupby("talk", sort=False):
        said = _turns(lines, settings)
        for index in _replies(said):
            messages = _messages(said[max(0, index - settings.earlier) : index + 1])
            rows.append({"messages": messages, "talk": str(talk), "source_row": str(said[index].row)})
    return renumbered(rows, ("messages", "talk", "source_row")), left_out


def _talks(table: pd.DataFrame, settings: TranscriptSettings) -> list[str]:
    """Return for every row which conversation it is of: the cell of `talk`, and a number that grows at each gap."""
    named = column(table, settings.talk, "[rows.transcript] talk").tolist() if settings.talk else [""] * len(table)
    at = times(column(table, settings.time, "[rows.transcript] time")).tolist() if settings.time else [0.0] * len(table)
    last: dict[str, tuple[float, int]] = {}
    talks = []
    for name, seconds in zip(named, at, strict=True):
        before, number = last.get(name, (seconds, 1))
        number += bool(settings.gap) and seconds - before > settings.gap
        last[name] = (seconds, number)
        talks.append(f"{name} {number}".strip())
    return talks


def _cleaned(text: str, fillers: Sequence[str]) -> str:
    """Return the text without fillers, the comma after one dropped too, and with single blanks."""
    if fillers:
        words = "|".join(re.escape(word) for word in sorted(fillers, key=len, reverse=True))
        text = re.sub(rf"(?<!\w)(?:{words})(?!\w)[,…]*\s*", "", text, flags=re.IGNORECASE)
    return " ".join(text.split())


def _turns(lines: pd.DataFrame, settings: TranscriptSettings) -> list[_Said]:
    """Merge what one side says in a row; several speakers on the side that is not learned are named."""
    learned = lines["speaker"].isin(settings.learned)
    many = lines.loc[~learned, "speaker"].nunique() > 1
    turns = []
    spoken = zip(lines.index.tolist(), lines["speaker"], lines["text"], learned.tolist(), strict=True)
    for is_learned, group in itertools.groupby(spoken, key=lambda line: line[3]):
        parts = list(group)
        each = [
            (name, " ".join(text for _, _, text, _ in words))
            for name, words in itertools.groupby(parts, key=lambda line: line[1])
        ]
        named = many and not is_learned
        text = "\n".join(f"{name}: {text}" if named else text for name, text in each)
        turns.append(_Said(parts[0][0], is_learned, text))
    return turns


def _replies(said: Sequence[_Said]) -> Iterator[int]:
    """Yield the places of the learned turns that answer something."""
    return (index for index, turn in enumerate(said) if turn.learned and index)


def _messages(said: Sequence[_Said]) -> str:
    """Return the turns as JSON, only the last one to be learned; they begin with the side that is not."""
    begin = 1 if said[0].learned else 0
    messages: list[dict[str, object]] = []
    for turn in said[begin:]:
        role = "assistant" if turn.learned else "user"
        messages.append({"role": role, "content": turn.text})
        if turn.learned and turn is not said[-1]:
            messages[-1]["learned"] = False
    return json.dumps(messages, ensure_ascii=False)
