"""Streams of rows to a built dataset on disk: every row in its part, or set aside with the reason."""

from __future__ import annotations

import hashlib
from collections.abc import Callable, Iterable, Mapping, Sequence
from pathlib import Path
from typing import Any

import pandas as pd

from foldkit.formats import InputError
from foldkit.rows import Rows

from .coding import ODD, OWN_END, Coded, Coder, SetAside, code_stream
from .examples import Examples
from .placing import PARTS
from .repeats import Repeats
from .splitting import SplitSettings, check_parts
from .store import Dataset, DatasetWriter, read_built
from .unused import unused

PartsOf = Callable[[pd.DataFrame], "pd.Series[Any]"]


def build_dataset(
    chunks: Iterable[Rows],
    coder: Coder,
    parts_of: PartsOf,
    folder: Path,
    inputs: Mapping[str, Any],
    split: SplitSettings,
    more_notes: Callable[[], Sequence[str]] = tuple,
    on_rows: Callable[[int], None] | None = None,
) -> Dataset:
    """Render and encode every row, put it where `parts_of` says, and write the folder; memory stays flat.

    Rows that cannot be read, rows with a blank where the template needs text, and rows longer than `window` tokens
    are set aside by name. `inputs` says what the dataset is built from, `more_notes` what else is worth saying once
    all rows were read; `on_rows` hears how many rows came with each chunk. Raises InputError when the template
    names a column that the rows do not have, and for a part that comes out empty although it has a share.
    """
    counted = _Counted()
    with DatasetWriter(folder) as writer:
        for chunk, coded in code_stream(chunks, coder):
            writer.set_aside(SetAside(bad.row, bad.reason) for bad in chunk.bad)
            if on_rows:
                on_rows(len(chunk.table) + len(chunk.bad))
            if chunk.table.empty:
                continue
            places = parts_of(chunk.table).loc[coded.examples.rows].to_numpy()
            for part in PARTS:
                examples = coded.examples.chosen(places == part)
                counted.add(part, examples)
                writer.write(part, examples)
            writer.set_aside(coded.set_aside)
            counted.note(coded, unused(chunk.table, coder.template, split.columns))
        n_rows = {part: n["rows"] for part, n in counted.parts.items()}
        aside = _said_of_set_aside(writer)
        if aside and not any(n_rows.values()):
            raise InputError("[rows]", "rows", "at least one that can be used", "none", aside)
        check_parts(n_rows, split, aside)
        writer.finish(
            inputs,
            counted.fingerprint,
            counted.parts,
            [*_notes_of(coder), *more_notes(), *counted.notes],
            counted.unused,
        )
    built = read_built(folder, inputs)
    assert built is not None  # it was written by the line above
    return built


def _notes_of(coder: Coder) -> list[str]:
    return [f"{OWN_END}: {coder.encoder.own_end}"] if coder.encoder.own_end else []


def _said_of_set_aside(writer: DatasetWriter) -> str:
    first, n = writer.first_set_aside, writer.n_set_aside
    return f"{n:,} {'is' if n == 1 else 'are'} set aside, the first row {first.row}: {first.reason}" if first else ""


class _Counted:
    """What is known of a dataset when its last chunk is written."""

    def __init__(self) -> None:
        self.parts = {part: {"rows": 0, "tokens": 0, "learned": 0, "longest": 0} for part in PARTS}
        self._unused: dict[str, None] = {}
        self._odd: dict[str, list[int]] = {name: [] for name in ODD}
        self._repeats = Repeats()
        self._digests = {part: [hashlib.sha256() for _ in range(7)] for part in PARTS}

    def add(self, part: str, examples: Examples) -> None:
        """Count examples, and take them into the fingerprint, which does not depend on the size of chunks."""
        if not len(examples):
            return
        n, lengths = self.parts[part], examples.lengths
        n["rows"] += len(examples)
        n["tokens"] += int(lengths.sum())
        n["learned"] += int(examples.learned_lengths.sum())
        n["longest"] = max(n["longest"], int(lengths.max()))
        self._repeats.add(part, examples)
        for digest, data in zip(self._digests[part], examples.buffers(), strict=True):
            digest.update(data)

    def note(self, coded: Coded, unused: Sequence[str]) -> None:
        """Remember what is worth saying of a chunk."""
        self._unused |= dict.fromkeys(unused)
        for name, rows in coded.odd.items():
            self._odd[name] += rows

    @property
    def fingerprint(self) -> str:
        """The fingerprint of all examples of all parts."""
        whole = hashlib.sha256(b"".join(one.digest() for part in self._digests.values() for one in part))
        return f"sha256:{whole.hexdigest()[:16]}"

    @property
    def unused(self) -> list[str]:
        """The columns that nothing uses, and keys of messages likewise."""
        return list(self._unused)

    @property
    def notes(self) -> list[str]:
        """In how many rows a prompt or a reply is not what it would be at asking, or stands in train too, in words."""
        found = ((ODD[name], rows) for name, rows in self._odd.items() if rows)
        told = [f"{says}: {len(rows)} row{'s' * (len(rows) > 1)}, first {rows[0]}" for says, rows in found]
        return told + self._repeats.notes
