"""Tables as files."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING

from .atomic import placed

if TYPE_CHECKING:
    import pandas as pd


def write_table(path: Path, table: pd.DataFrame) -> None:
    """Write a table without its index whole, aside and renamed: Parquet where its name says so, else CSV."""
    with placed(path) as aside:
        table.to_parquet(aside, index=False) if path.suffix == ".parquet" else table.to_csv(aside, index=False)
