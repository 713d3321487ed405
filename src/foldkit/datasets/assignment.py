"""The stored assignment of rows to parts, by the number of each row's content, for splits that keep it."""

from __future__ import annotations

import dataclasses
import json
import os
from pathlib import Path
from typing import Any

import pandas as pd

from .splitting import SplitSettings

_NAME, _KEY = "assignment.arrow", b"split"


def write_assignment(folder: Path, settings: SplitSettings, content: pd.Series, parts: pd.Series) -> None:
    """Write the part of every row beside the built dataset, with the settings it was made by."""
    import pyarrow
    import pyarrow.feather

    folder.mkdir(parents=True, exist_ok=True)
    columns: list[Any] = [pyarrow.array(content, pyarrow.int64()), pyarrow.array(parts, pyarrow.string())]
    table = pyarrow.table(columns, names=["content", "part"]).replace_schema_metadata({_KEY: _said(settings)})
    aside = folder / f".{_NAME}.new"
    pyarrow.feather.write_feather(table, str(aside))
    os.replace(aside, assignment_path(folder))


def assignment_path(folder: Path) -> Path:
    """Return where the assignment of a built dataset stands."""
    return folder / _NAME


def read_assignment(folder: Path, settings: SplitSettings) -> dict[int, str]:
    """Return the stored parts by content; none where nothing was stored, or it was made by other settings."""
    import pyarrow
    import pyarrow.feather

    try:
        table = pyarrow.feather.read_table(str(assignment_path(folder)))
    except (OSError, pyarrow.ArrowException):
        return {}
    if (table.schema.metadata or {}).get(_KEY, b"").decode() != _said(settings):
        return {}
    content: list[Any] = table.column("content").to_pylist()
    parts: list[Any] = table.column("part").to_pylist()
    return dict(zip(content, parts, strict=True))


def _said(settings: SplitSettings) -> str:
    return json.dumps(dataclasses.asdict(settings), sort_keys=True)
