"""The runs of a sheet as a table."""

from __future__ import annotations

import pandas as pd

from foldkit.runs import RunFolder, list_runs, record

from .sheet import Sheet


def runs_table(sheet: Sheet) -> pd.DataFrame:
    """Return a line for every run of the sheet's folder: outcome, the adapter's scores, and every setting."""
    folder = sheet.path("runs")
    table = pd.DataFrame([record(RunFolder(folder / run.name)) for run in list_runs(folder)])
    mixed = [name for name in table.columns if table[name].map(type).nunique() > 1 and table[name].dtype == object]
    return table.astype(dict.fromkeys(mixed, str))
