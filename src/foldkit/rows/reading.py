"""Files to a table of text cells.

The table's index is the row's number over all files, from 1, rows that were set aside counted. Blank cells are "".
"""

from __future__ import annotations

import dataclasses
import functools
import zlib
from collections.abc import Collection, Iterable, Iterator, Mapping
from dataclasses import dataclass, field
from pathlib import Path

import numpy as np
import pandas as pd

from foldkit.formats import InputError, near_name
from foldkit.formats.paths import path_from

from .cells import cell_text
from .paths import cells_at, text_paths
from .readers import Bad, Block, damaged
from .settings import RowsSettings
from .shapes import SHAPES, SOURCE_ROW
from .sources import find_files, reader_of


@dataclass(frozen=True)
class BadRow:
    """A row that could not be read, with its number and the reason."""

    row: int
    reason: str


@dataclass(frozen=True)
class Rows:
    """Rows of a source: the table, those that could not be read, and the first row number of each of its files.

    Those of a shape have other numbers, and say in `source_row` which row of the files they are of.
    """

    table: pd.DataFrame
    bad: tuple[BadRow, ...] = ()
    files: tuple[tuple[int, Path], ...] = ()
    shaped: bool = False

    @property
    def paths(self) -> list[Path]:
        """The file that each row of the table is of."""
        numbers = self.table[SOURCE_ROW].astype(int) if self.shaped else self.table.index
        starts = [first for first, _ in self.files]
        return [self.files[place - 1][1] for place in np.searchsorted(starts, numbers, side="right").tolist()]


def read_rows(settings: RowsSettings, folder: Path) -> Rows:
    """Read every row of a source into one table.

    Raises InputError for a missing, empty, damaged or unknown file, for a column named in `columns` that is not
    there or whose new name another one has, and by `on_bad = "stop"` for the first row that cannot be read.
    """
    return collected(stream_rows(settings, folder))


def collected(pieces: Iterable[Rows]) -> Rows:
    """Return the pieces of a source as one."""
    chunks = list(pieces)
    tables = [chunk.table for chunk in chunks if not chunk.table.empty]
    table = tables[0] if len(tables) == 1 else pd.concat(tables).fillna("") if tables else pd.DataFrame()
    bad = tuple(row for chunk in chunks for row in chunk.bad)
    files = tuple(dict.fromkeys(file for chunk in chunks for file in chunk.files))
    return Rows(table, bad, files, any(chunk.shaped for chunk in chunks))


def stream_rows(
    settings: RowsSettings, folder: Path, n_rows: int = 5_000, needed: Collection[str] = ()
) -> Iterator[Rows]:
    """Yield the rows of a source in tables of at most `n_rows`, in order, so that memory stays flat.

    A table has the columns of its own rows, and those of `needed` that any row of the source has, blank where its own
    have none. A source with a shape, such as a transcript, is read as a whole and shaped first. Errors are those of
    `read_rows`.
    """
    source = _Source(settings, folder, n_rows)
    pieces = _shaped(source) if settings.shapes else _needed(_read(source), source, needed)
    n_read, n_bad, first = 0, 0, ""
    for rows in pieces:
        n_read, n_bad = n_read + len(rows.table), n_bad + len(rows.bad)
        first = first or "".join(f"the first, row {bad.row}: {bad.reason}" for bad in rows.bad[:1])
        yield rows
    if not n_read:
        found = f"none of {n_bad}" if n_bad else "an empty file"
        raise InputError(
            path_from(folder, settings.source), "rows", "at least one row", found, first or "check the export"
        )


@dataclass(frozen=True)
class _Source:
    """Files to be read in blocks of at most `n_rows`."""

    settings: RowsSettings
    folder: Path
    n_rows: int

    def items(self) -> Iterator[tuple[Path, Block | Bad]]:
        """Yield the blocks and bad rows of every file."""
        for file in find_files(self.settings, self.folder):
            read = reader_of(file, self.settings.as_text)
            assert read is not None  # else it is not found
            try:
                for item in read(file, self.settings, self.n_rows):
                    yield file, item
            except (UnicodeError, EOFError, OSError, zlib.error) as error:
                raise damaged(file, error, "a whole file") from None

    @functools.cached_property
    def columns(self) -> frozenset[str]:
        """The columns that any row has, as the files name them, and paths of `columns`; all files are read for it."""
        blocks = (item.columns for _, item in self.items() if isinstance(item, Block))
        paths = self.settings.columns.values()
        return frozenset(
            name for own in blocks for name in (*own, *(path for path in paths if cells_at(own, path) is not None))
        )


def _shaped(source: _Source) -> Iterator[Rows]:
    settings, n_rows = source.settings, source.n_rows
    rows = collected(_read(source))
    if rows.table.empty:
        yield rows
        return
    table, left_out = _in_shape(rows.table, settings)
    bad = (*rows.bad, *(BadRow(row, f"source row {row}: {reason}") for row, reason in left_out.items()))
    for start in range(0, max(1, len(table)), n_rows):  # what is left out is told where nothing else is there
        yield Rows(table.iloc[start : start + n_rows], () if start else bad, rows.files, shaped=True)


def _in_shape(table: pd.DataFrame, settings: RowsSettings) -> tuple[pd.DataFrame, dict[int, str]]:
    """Return a table in its shapes, one after the other, and what is left out by its row in the source."""
    first, *others = settings.shapes
    table, left_out = SHAPES[first](table, getattr(settings, first))
    for name in others:
        before = table.pop(SOURCE_ROW)
        table, aside = SHAPES[name](table, getattr(settings, name))
        table[SOURCE_ROW] = [before[int(row)] for row in table[SOURCE_ROW]]
        left_out |= {int(before[row]): reason for row, reason in aside.items()}
    return table, left_out


def _needed(pieces: Iterable[Rows], source: _Source, needed: Collection[str]) -> Iterator[Rows]:
    for rows in pieces:
        absent = [name for name in needed if name not in rows.table.columns]
        blank = {name: "" for name in absent if name in source.columns.difference(source.settings.columns.values())}
        yield dataclasses.replace(rows, table=rows.table.assign(**blank)) if blank else rows


def _read(source: _Source) -> Iterator[Rows]:
    held = _Held()
    number = 1
    for path, item in source.items():
        if not held.files or held.files[-1][1] != path:
            held.files.append((number, path))
        if isinstance(item, Bad):
            if source.settings.on_bad == "stop":
                raise item.error()
            held.bad.append(BadRow(number, str(item.error())))
            number += 1
            continue
        if held.numbers and len(held.numbers) + item.n_rows > source.n_rows:
            yield held.rows()
            held = _Held(files=[(number, path)])
        held.add(_cells(item, source), range(number, number + item.n_rows))
        number += item.n_rows
    if held.numbers or held.bad:
        yield held.rows()


@dataclass
class _Held:
    """What was read and not yet given on: the numbers of rows, their cells by column, bad rows and files."""

    numbers: list[int] = field(default_factory=list)
    columns: dict[str, list[str]] = field(default_factory=dict)
    bad: list[BadRow] = field(default_factory=list)
    files: list[tuple[int, Path]] = field(default_factory=list)

    def add(self, cells: Mapping[str, list[str]], numbers: range) -> None:
        """Put rows behind those that are there; what a row has no cell for is blank."""
        for name, values in cells.items():
            column = self.columns.setdefault(name, [])
            column.extend([""] * (len(self.numbers) - len(column)))
            column.extend(values)
        self.numbers.extend(numbers)

    def rows(self) -> Rows:
        """Return them as a table."""
        for column in self.columns.values():
            column.extend([""] * (len(self.numbers) - len(column)))
        table = pd.DataFrame(self.columns, index=pd.Index(self.numbers, name="row"), dtype=object)
        return Rows(table, tuple(self.bad), tuple(self.files))


def _cells(block: Block, source: _Source) -> dict[str, list[str]]:
    blank, strip = [None] * block.n_rows, source.settings.strip
    return {
        name: [cell_text(value, strip=strip) for value in cells_at(block.columns, theirs) or blank]
        for name, theirs in _names(block, source)
    }


def _names(block: Block, source: _Source) -> list[tuple[str, str]]:
    """Return our names of a block's columns with the file's, in its order."""
    ours = source.settings.columns
    for name, theirs in ours.items():
        if cells_at(block.columns, theirs) is None and theirs not in source.columns:
            paths = (path for own, cells in block.columns.items() for path in text_paths(own, cells))
            hint = near_name(theirs, source.columns.union(paths))
            raise InputError(block.place, "[rows] columns", "a column of the file", theirs, hint)
        if name in block.columns and name not in ours.values():
            found, hint = f"{name} = '{theirs}' beside a column {name}", f"name that one too: other = '{name}'"
            raise InputError(block.place, "[rows] columns", "one column of each name", found, hint)
    by_theirs = {theirs: [name for name, own in ours.items() if own == theirs] for theirs in ours.values()}
    return [(name, theirs) for theirs in {**block.columns, **by_theirs} for name in by_theirs.get(theirs, [theirs])]
