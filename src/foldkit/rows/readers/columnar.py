"""Parquet and Arrow files, read in batches."""

from __future__ import annotations

from collections.abc import Iterator
from pathlib import Path
from typing import Any

from foldkit.formats import InputError

from ..settings import RowsSettings
from .contract import Bad, Raw, damaged, open_bytes


def read_parquet(path: Path, settings: RowsSettings) -> Iterator[Raw | Bad]:
    """Yield the rows of a Parquet file."""
    import pyarrow
    import pyarrow.parquet

    with open_bytes(path) as file:
        try:
            table = pyarrow.parquet.ParquetFile(file)
        except (pyarrow.ArrowException, OSError, ValueError) as error:
            raise damaged(path, error, "a Parquet file") from None
        yield from _rows(path, table.iter_batches(batch_size=4096), "a Parquet file")


def read_arrow(path: Path, settings: RowsSettings) -> Iterator[Raw | Bad]:
    """Yield the rows of an Arrow file or stream."""
    import pyarrow

    with open_bytes(path) as file:
        source: Any = file
        try:
            reader: Any = pyarrow.ipc.open_file(source)
            batches: Iterator[Any] = (reader.get_batch(index) for index in range(reader.num_record_batches))
        except pyarrow.ArrowInvalid:
            file.seek(0)
            try:
                batches = iter(pyarrow.ipc.open_stream(source))
            except (pyarrow.ArrowException, OSError, ValueError) as error:
                raise damaged(path, error, "an Arrow file or stream") from None
        yield from _rows(path, batches, "an Arrow file or stream")


def _rows(path: Path, batches: Iterator[Any], expected: str) -> Iterator[Raw]:
    import pyarrow

    number = 0
    while True:
        try:
            batch = next(batches, None)
            if batch is not None:
                batch.validate(full=True)
            items = [] if batch is None else batch.to_pylist()
        except (pyarrow.ArrowException, OSError, ValueError) as error:
            raise damaged(path, error, expected) from None
        if batch is None:
            return
        names = batch.schema.names
        if len(set(names)) < len(names):
            raise InputError(path, "columns", "every column once", names, "rename one of the two")
        for item in items:
            number += 1
            yield Raw(f"{path}, row {number}", item)
