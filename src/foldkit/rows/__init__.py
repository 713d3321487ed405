"""Files to a table of text, and looking at it. Knows no tokens."""

from .kinds import KINDS, Kind, recognise
from .looking import ColumnSummary, RowsSummary, summarise
from .readers import READERS
from .reading import BadRow, Rows, column, read_rows, stream_rows
from .settings import RowsSettings
from .sources import find_files

__all__ = [
    "KINDS",
    "READERS",
    "BadRow",
    "ColumnSummary",
    "Kind",
    "Rows",
    "RowsSettings",
    "RowsSummary",
    "column",
    "find_files",
    "read_rows",
    "recognise",
    "stream_rows",
    "summarise",
]
