"""Tables of text: CSV, TSV, or any other delimiter, with a header or without."""

from __future__ import annotations

import csv
from collections.abc import Iterator
from pathlib import Path

from foldkit.formats import InputError

from ..settings import RowsSettings
from .contract import Bad, Raw, open_text

csv.field_size_limit(2**31 - 1)


def read_delimited(path: Path, settings: RowsSettings) -> Iterator[Raw | Bad]:
    """Yield the rows; without a header the columns are column_1, column_2 and so on."""
    name = path.name.lower().removesuffix(".gz")
    delimiter = settings.delimiter or ("\t" if name.endswith((".tsv", ".tab")) else ",")
    with open_text(path, settings.encoding) as file:
        lines = csv.reader(file, delimiter=delimiter, strict=True)
        header: list[str] = []
        number = 0
        while True:
            try:
                cells = next(lines)
            except StopIteration:
                return
            except csv.Error as error:
                raise InputError(
                    f"{path}, line {lines.line_num}", "line", "CSV", str(error), "mend its quotes"
                ) from None
            if not cells:
                continue
            if not header:
                header = _header(path, cells, settings)
                if settings.header:
                    continue
            number += 1
            place = f"{path}, row {number} (line {lines.line_num})"
            if len(cells) != len(header):
                todo = f"quote cells that hold {delimiter!r}"
                yield Bad(place, "row", f"{len(header)} cells", f"{len(cells)} cells", todo)
            else:
                yield Raw(place, dict(zip(header, cells, strict=True)))


def _header(path: Path, cells: list[str], settings: RowsSettings) -> list[str]:
    if not settings.header:
        return [f"column_{index}" for index in range(1, len(cells) + 1)]
    header = [name.strip() for name in cells]
    repeated = sorted({name for name in header if header.count(name) > 1})
    if repeated:
        raise InputError(path, "header", "every column once", repeated[0], "rename one of the two")
    return header
