"""Long texts: a row for each piece of one, cut where a paragraph ends, or a line, a sentence, a word."""

from __future__ import annotations

import math
import re
from collections.abc import Sequence
from dataclasses import dataclass

import pandas as pd

from foldkit.formats.settings import within

from ..tables import column, rows_of
from .contract import SOURCE_ROW, renumbered

# The column that says that a text goes on after a piece.
GOES_ON = "goes_on"
# Blanks at the head of a line stay with it, as those that code is indented by.
_BLANK_LINES = re.compile(r"\A\s*\n")
_ENDS = tuple(map(re.compile, (r"\n\s*\n", r"\n", r"(?<=[.!?…])\s+|(?<=[。！？])\s*", r"\s+")))


@dataclass(frozen=True)
class PiecesSettings:
    """The column of the `text`, and how many characters the `longest` piece of one may have."""

    text: str = "text"
    longest: int = 2000

    def __post_init__(self) -> None:
        within(self.longest, 20, 10_000_000, "[rows.pieces]", "longest")


def in_pieces(table: pd.DataFrame, settings: PiecesSettings) -> tuple[pd.DataFrame, dict[int, str]]:
    """Return a row for each piece, all other columns repeated, and `source_row`; a blank text is left out.

    `goes_on` is "yes" for every piece of a text but the last.
    """
    column(table, settings.text, "[rows.pieces] text")
    names = [name for name in map(str, table) if name != GOES_ON]
    rows: list[dict[str, str]] = []
    left_out: dict[int, str] = {}
    for number, cells in rows_of(table):
        pieces = cut(cells[settings.text], settings.longest)
        for place, piece in enumerate(pieces, 1):
            goes_on = "yes" if place < len(pieces) else ""
            rows.append(cells | {settings.text: piece, GOES_ON: goes_on, SOURCE_ROW: str(number)})
        if not pieces:
            left_out[number] = f"blank: {settings.text}"
    return renumbered(rows, (*names, GOES_ON, SOURCE_ROW)), left_out


def cut(text: str, longest: int, ends: Sequence[re.Pattern[str]] = _ENDS) -> list[str]:
    """Return a text in pieces of like length, none over `longest` characters, cut where the first of `ends` allows it.

    Only blanks between pieces are lost. Where nothing allows a cut, as in a word that is longer, it is cut anywhere.
    """
    text = _BLANK_LINES.sub("", text).rstrip()
    if len(text) <= longest:
        return [text] if text else []
    if not ends:
        return [text[at : at + longest] for at in range(0, len(text), longest)]
    usual = len(text) / math.ceil(len(text) / longest)
    pieces: list[str] = []
    start = last = 0
    for end in (*(match.end() for match in ends[0].finditer(text)), len(text)):
        past_usual = (end - start) + (last - start) > 2 * usual  # `last` is nearer to it than `end`
        if last > start and (end - start > longest or past_usual):
            pieces += cut(text[start:last], longest, ends[1:])
            start = last
        last = end
    return pieces + cut(text[start:], longest, ends[1:])
