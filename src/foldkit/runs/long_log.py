"""The figures of a log of very many steps, faster than a reader of any JSON can: its step lines are all of one form.

The writer gives every step the same keys in the same order, and no value of a step holds a comma. So the lines are cut
at commas; each cell must begin with its key, or the log is read as any other.
"""

from __future__ import annotations

import json
from collections.abc import Sequence
from typing import Any

import pyarrow as pa
import pyarrow.compute as pc
import pyarrow.csv

_STEP = b'{"event": "step"'
_BLOCK = 1 << 20


def read_long_log(content: pa.Buffer, figures: Sequence[str]) -> tuple[pa.Table, list[dict[str, Any]]] | None:
    """Return step and figures (float64) of the step events, and all others in the order of their steps.

    None when the steps are not all of the form that the first one has.
    """
    keys = _first_keys(content)
    if not keys:
        return None
    others: list[str] = []

    def keep(row: Any) -> str:
        others.append(row.text)
        return "skip"

    wanted = [key for key in dict.fromkeys(("event", "step", *figures)) if key in keys]
    try:
        cells = pyarrow.csv.read_csv(
            pa.BufferReader(content),
            pyarrow.csv.ReadOptions(column_names=keys, block_size=_BLOCK),
            pyarrow.csv.ParseOptions(quote_char=False, invalid_row_handler=keep),
            pyarrow.csv.ConvertOptions(column_types=dict.fromkeys(keys, pa.string()), include_columns=wanted),
        )
        columns = {key: _values(cells.column(key), keys, key) for key in wanted}
        return pa.table(columns), sorted(map(json.loads, others), key=lambda event: event.get("step", 0))
    except (pa.ArrowInvalid, ValueError):
        return None


def _first_keys(content: pa.Buffer) -> list[str]:
    head = content.slice(0, min(len(memoryview(content)), 1 << 16)).to_pybytes().split(b"\n")[:-1]
    line = next((line for line in head if line.startswith(_STEP)), None)
    event = json.loads(line) if line else {}
    flat = line is not None and line.count(b",") == len(event) - 1
    return list(event) if flat else []


def _values(cells: pa.ChunkedArray, keys: Sequence[str], key: str) -> pa.ChunkedArray:
    """Return the values behind their key; raises ValueError where a cell begins with anything else."""
    begin = f'{"{" if key == keys[0] else " "}"{key}": '
    if not pc.all(pc.starts_with(cells, begin)).as_py():
        raise ValueError(f"not all steps have {key} in its place")
    values = pc.utf8_slice_codeunits(cells, len(begin), -1 if key == keys[-1] else None)
    if key == "event":
        if not pc.all(pc.equal(values, '"step"')).as_py():
            raise ValueError("a line of another event has as many keys as a step")
        return pc.ascii_trim(values, '"')
    if pc.any(pc.equal(values, "null")).as_py():
        values = pc.if_else(pc.equal(values, "null"), pa.scalar(None, pa.string()), values)
    return pc.cast(values, pa.int64() if key == "step" else pa.float64())
