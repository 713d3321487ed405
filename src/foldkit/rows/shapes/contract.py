"""The contract of a shape: a table of rows as they stood to another table, numbered anew from 1.

The column `source_row` of what comes back says where each new row began.
"""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from typing import Any

import pandas as pd

# The column that says where a new row began.
SOURCE_ROW = "source_row"

# The table and the shape's settings, to the new table, and source rows that are left out with their reasons.
Shape = Callable[[pd.DataFrame, Any], tuple[pd.DataFrame, dict[int, str]]]


def renumbered(rows: Sequence[Mapping[str, str]], columns: Sequence[str]) -> pd.DataFrame:
    """Return new rows as a table with these columns, numbered from 1."""
    index = pd.RangeIndex(1, len(rows) + 1, name="row")
    return pd.DataFrame({name: [row[name] for row in rows] for name in columns}, index=index, dtype=object)
