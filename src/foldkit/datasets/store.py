"""A built dataset on disk: a folder with one Arrow file a part, the rows set aside, and a manifest.

A part has the columns `row` (int64), `ids` (list of int32), `spans` (list of int32: start and end of each learned
span, half open) and `rejected` (list of int32: the ids of a worse reply, empty where there is none). It is read through
a memory map. Rows set aside stand in `set_aside.jsonl`, each with its reason and, where it could be read, its cells.
The manifest is written last, with the fingerprints of these files and its own: where one of them is not as it was
written there is no dataset.
"""

from __future__ import annotations

import contextlib
import json
import os
from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass
from pathlib import Path
from types import TracebackType
from typing import IO, Any

from foldkit.formats import InputError, fingerprint_files, read_jsonl, seal, unsealed, write_aside
from foldkit.formats.atomic import named

from .coding import SetAside
from .examples import Examples, schema
from .placing import PARTS

VERSION = 7
_FILES = (*(f"{part}.arrow" for part in PARTS), "set_aside.jsonl")


@dataclass(frozen=True)
class Dataset:
    """Examples by part, the rows set aside, things worth saying, and the columns that nothing uses."""

    parts: dict[str, Examples]
    set_aside: tuple[SetAside, ...]
    fingerprint: str
    part_counts: dict[str, dict[str, int]]
    notes: tuple[str, ...]
    unused: tuple[str, ...]

    def counts(self) -> dict[str, dict[str, int]]:
        """Return rows, tokens, learned tokens and the longest example of each part."""
        return self.part_counts


class DatasetWriter:
    """Writes the files of a dataset aside; `finish` puts them into place. Leaving without it leaves nothing behind."""

    def __init__(self, folder: Path) -> None:
        self.folder = folder
        self.n_set_aside = 0
        self.first_set_aside: SetAside | None = None

    def __enter__(self) -> DatasetWriter:
        import pyarrow

        self.folder.mkdir(parents=True, exist_ok=True)
        self._open = contextlib.ExitStack()
        self._parts = {
            part: self._open.enter_context(pyarrow.ipc.new_file(str(self._aside(f"{part}.arrow")), schema()))
            for part in PARTS
        }
        self._aside_file: IO[str] = self._open.enter_context(self._aside("set_aside.jsonl").open("w", encoding="utf-8"))
        return self

    def __exit__(self, kind: type[BaseException] | None, error: BaseException | None, at: TracebackType | None) -> None:
        with named(self.folder):
            self._open.close()
        for name in _FILES:
            self._aside(name).unlink(missing_ok=True)

    def write(self, part: str, examples: Examples) -> None:
        """Append examples to a part."""
        with named(self.folder):
            self._parts[part].write_table(examples.table)

    def set_aside(self, rows: Iterable[SetAside]) -> None:
        """Append rows that are in no part."""
        for row in rows:
            self.first_set_aside = self.first_set_aside or row
            line = {"row": row.row, "reason": row.reason, "cells": dict(row.cells)}
            with named(self.folder):
                self._aside_file.write(json.dumps(line, ensure_ascii=False) + "\n")
            self.n_set_aside += 1

    def finish(
        self,
        inputs: Mapping[str, Any],
        fingerprint: str,
        counts: Mapping[str, Any],
        notes: Sequence[str],
        unused: Sequence[str],
    ) -> None:
        """Put all files into place, the manifest last."""
        with named(self.folder):
            self._open.close()
        (self.folder / "manifest.json").unlink(missing_ok=True)
        for name in _FILES:
            os.replace(self._aside(name), self.folder / name)
        manifest = {
            "version": VERSION,
            "inputs": dict(inputs),
            "fingerprint": fingerprint,
            "counts": dict(counts),
            "n_set_aside": self.n_set_aside,
            "notes": list(notes),
            "unused": list(unused),
            "files": fingerprint_files(self.folder / name for name in _FILES),
        }
        write_aside(self.folder / "manifest.json", json.dumps(seal(manifest), indent=2, ensure_ascii=False) + "\n")

    def _aside(self, name: str) -> Path:
        return self.folder / f".{name}.new"


def read_built(folder: Path, inputs: Mapping[str, Any]) -> Dataset | None:
    """Open a folder; None when it was built from other than `inputs`, is built anew meanwhile, or is damaged."""
    written = _manifest_of(folder)
    manifest = _whole(written)
    if manifest.get("version") != VERSION or manifest["inputs"] != json.loads(json.dumps(dict(inputs))):
        return None
    try:
        if fingerprint_files(folder / name for name in _FILES) != manifest["files"]:
            return None
        found = _opened(folder, manifest)
    except (OSError, InputError):  # it is built anew meanwhile, or gone
        return None
    return found if _manifest_of(folder) == written else None


def _opened(folder: Path, manifest: Mapping[str, Any]) -> Dataset:
    import pyarrow

    parts = {
        part: Examples(pyarrow.ipc.open_file(pyarrow.memory_map(str(folder / f"{part}.arrow"))).read_all())
        for part in PARTS
    }
    set_aside = tuple(SetAside(**row) for row in read_jsonl(folder / "set_aside.jsonl"))
    notes, unused = tuple(manifest["notes"]), tuple(manifest["unused"])
    return Dataset(parts, set_aside, manifest["fingerprint"], manifest["counts"], notes, unused)


def _whole(written: str) -> dict[str, Any]:
    """Return a manifest that is as it was written, else an empty one."""
    try:
        return unsealed(json.loads(written)) or {}
    except ValueError:
        return {}


def _manifest_of(folder: Path) -> str:
    """Return the text of the manifest, nothing where there is none that can be read."""
    try:
        return (folder / "manifest.json").read_text(encoding="utf-8")
    except (OSError, UnicodeDecodeError):
        return ""
