"""The contract of a reader: a file to blocks of rows with the same columns, in order, and rows that are bad."""

from __future__ import annotations

import contextlib
import functools
import gzip
import io
import zlib
from collections.abc import Callable, Iterator, Mapping
from dataclasses import dataclass
from pathlib import Path
from typing import IO, Any, cast

from foldkit.formats import InputError

from ..settings import RowsSettings


@dataclass(frozen=True)
class Block:
    """Consecutive rows as they stood in the file: cells by column; `place` says where the first one stands."""

    place: str
    columns: Mapping[str, list[Any]]
    n_rows: int


@dataclass(frozen=True)
class Raw:
    """One row as it stood in the file; `place` says where, for errors."""

    place: str
    cells: Mapping[str, Any]


@dataclass(frozen=True)
class Bad:
    """A row that cannot be read: where, what was expected, what was found, what to do."""

    place: str
    what: str
    allowed: str
    arrived: object
    todo: str

    def error(self) -> InputError:
        """Return the error that stops the work."""
        return InputError(self.place, self.what, self.allowed, self.arrived, self.todo)


# A file, its settings, and the most rows that one block may have.
Reader = Callable[[Path, RowsSettings, int], Iterator[Block | Bad]]


def by_rows(read: Callable[[Path, RowsSettings], Iterator[Raw | Bad]]) -> Reader:
    """Return the reader that collects single rows, whose columns may differ, into blocks; missing cells are None."""

    @functools.wraps(read)
    def reader(path: Path, settings: RowsSettings, most: int) -> Iterator[Block | Bad]:
        held: list[Raw] = []
        for row in read(path, settings):
            if held and (isinstance(row, Bad) or len(held) == most):
                yield _block(held)
                held = []
            if isinstance(row, Bad):
                yield row
            else:
                held.append(row)
        if held:
            yield _block(held)

    return reader


def _block(rows: list[Raw]) -> Block:
    names = dict.fromkeys(str(name) for row in rows for name in row.cells)
    return Block(rows[0].place, {name: [row.cells.get(name) for row in rows] for name in names}, len(rows))


def open_bytes(path: Path) -> IO[bytes]:
    """Open a file, through gzip where its name ends so; raises InputError when it cannot be opened."""
    try:
        if path.suffix.lower() == ".gz":
            return cast(IO[bytes], gzip.GzipFile(path, "rb"))
        return path.open("rb")
    except FileNotFoundError:
        raise InputError(path, "file", "an existing file", None, "check the path") from None
    except OSError as error:
        raise InputError(path, "file", "a readable file", error.strerror, "check the path and its rights") from None


def open_text(path: Path, encoding: str) -> io.TextIOWrapper:
    """Open a text file, a byte order mark passed over."""
    name = "utf-8-sig" if encoding.lower().replace("_", "-") in ("utf-8", "utf8") else encoding
    return io.TextIOWrapper(open_bytes(path), encoding=name, newline="")


def damaged(path: Path, error: Exception, expected: str) -> InputError:
    """Return the error for a file that breaks off, or is of another kind or encoding than it says."""
    if isinstance(error, UnicodeDecodeError):
        found = error.object[error.start : error.start + 1].hex()
        place = f"{path}, line {_undecodable_line(path, error.encoding)}"
        return InputError(place, "encoding", error.encoding, f"byte {found}", "set encoding in [rows]")
    if isinstance(error, UnicodeError):
        return InputError(path, "encoding", "text as [rows] says", str(error), "set encoding in [rows]")
    return InputError(path, "file", expected, str(error) or type(error).__name__, "export or fetch the file again")


def _undecodable_line(path: Path, encoding: str) -> int:
    number = 0
    # A file may break off too: then the line after the last whole one is named.
    with contextlib.suppress(EOFError, OSError, zlib.error), open_bytes(path) as file:
        for number, line in enumerate(file, 1):
            try:
                line.decode(encoding)
            except UnicodeDecodeError:
                return number
    return number + 1
