"""Files to a table of text, and looking at it. Knows no tokens."""

from .asked import AskedRows
from .found import FoundReading, found_reading
from .guessing import are_numbers, are_texts, belonging, guess, is_few, listed_values
from .kinds import KINDS, WRITERS, Kind, recognise, usual
from .looking import ColumnSummary, RowsSummary, summarise
from .marks import are_lists_of_messages, are_talks, has_turns, usual_marks
from .paths import cells_at, column_of, text_paths, texts_at
from .readers import READERS
from .reading import BadRow, Rows, read_rows, stream_rows
from .settings import RowsSettings
from .shapes import SHAPES
from .sources import endings_said, find_files
from .tables import column

__all__ = [
    "KINDS",
    "READERS",
    "SHAPES",
    "WRITERS",
    "AskedRows",
    "BadRow",
    "ColumnSummary",
    "FoundReading",
    "Kind",
    "Rows",
    "RowsSettings",
    "RowsSummary",
    "are_lists_of_messages",
    "are_numbers",
    "are_talks",
    "are_texts",
    "belonging",
    "cells_at",
    "column",
    "column_of",
    "endings_said",
    "find_files",
    "found_reading",
    "guess",
    "has_turns",
    "is_few",
    "listed_values",
    "read_rows",
    "recognise",
    "stream_rows",
    "summarise",
    "text_paths",
    "texts_at",
    "usual",
    "usual_marks",
]
