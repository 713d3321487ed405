"""Files to a table of text, and looking at it. Knows no tokens."""

from .looking import ColumnSummary, RowsSummary, summarise
from .reading import RowsSettings, read_rows

__all__ = ["ColumnSummary", "RowsSettings", "RowsSummary", "read_rows", "summarise"]
