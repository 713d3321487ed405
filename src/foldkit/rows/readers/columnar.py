"""Parquet and Arrow files, read in batches."""

from __future__ import annotations

from collections.abc import Iterator
from pathlib import Path
from typing import Any

from foldkit.formats import InputError

from ..settings import RowsSettings
from .contract import Bad, Block, damaged, open_bytes


def read_parquet(path: Path, settings: RowsSettings, most: int) -> Iterator[Block | Bad]:
    """Yield the rows of a Parquet file."""
    import pyarrow
    import pyarrow.parquet

    with open_bytes(path) as file:
        try:
            table = pyarrow.parquet.ParquetFile(file)
        except (pyarrow.ArrowException, OSError, ValueError) as error:
            raise damaged(path, error, "a Parquet file") from None
        yield from _blocks(path, table.iter_batches(batch_size=most), most, "a Parquet file")


def read_arrow(path: Path, settings: RowsSettings, most: int) -> Iterator[Block | Bad]:
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
        yield from _blocks(path, batches, most, "an Arrow file or stream")


def _blocks(path: Path, batches: Iterator[Any], most: int, expected: str) -> Iterator[Block]:
    import pyarrow

    number = 1
    while True:
        try:
            batch = next(batches, None)
            if batch is not None:
                batch.validate(full=True)
            pieces = [] if batch is None else [batch[at : at + most] for at in range(0, batch.num_rows, most)]
            found = [(piece.num_rows, piece.to_pydict()) for piece in pieces]
        except (pyarrow.ArrowException, OSError, ValueError) as error:
            raise damaged(path, error, expected) from None
        if batch is None:
            return
        names = batch.schema.names
        if len(set(names)) < len(names):
            raise InputError(path, "columns", "every column once", names, "rename one of the two")
        for n_rows, columns in found:
            yield Block(f"{path}, row {number}", columns, n_rows)
            number += n_rows
