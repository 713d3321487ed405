"""The sheet: one TOML file that describes a piece of work from rows to scores."""

from __future__ import annotations

import dataclasses
import tomllib
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

from foldkit.adapters.settings import AdapterSettings
from foldkit.datasets import SplitSettings
from foldkit.formats import InputError, UsageError, near_name, read_settings, read_toml
from foldkit.formats.paths import path_from
from foldkit.models.settings import BaseSettings
from foldkit.rows import RowsSettings
from foldkit.scoring.settings import ScoreSettings
from foldkit.templates import TemplateSettings
from foldkit.training.settings import TrainSettings


@dataclass(frozen=True)
class Sheet:
    """Every setting of one piece of work; `folder` is what its paths are relative to."""

    rows: RowsSettings
    template: TemplateSettings
    split: SplitSettings = field(default_factory=SplitSettings)
    base: BaseSettings = field(default_factory=BaseSettings)
    adapter: AdapterSettings = field(default_factory=AdapterSettings)
    train: TrainSettings = field(default_factory=TrainSettings)
    score: ScoreSettings = field(default_factory=ScoreSettings)
    folder: Path = Path()

    def path(self, name: str) -> Path:
        """Return a path of the sheet as it is from here."""
        return path_from(self.folder, name)

    def base_path(self) -> Path:
        """Return the path of the base: a folder, a file, or the one that ships."""
        return base_path(self.base.model, self.folder)

    def as_mapping(self) -> dict[str, Any]:
        """Return all sections with every setting resolved."""
        values = dataclasses.asdict(self)
        del values["folder"]
        return values


def base_path(model: str, folder: Path) -> Path:
    """Return where a base stands: `pellam` is the one that ships, anything else a path relative to `folder`."""
    if model == "pellam":
        from foldkit.demo import PELLAM

        return PELLAM
    return path_from(folder, model)


def read_sheet(path: str | Path, changes: str | Sequence[str] = ()) -> Sheet:
    """Read a sheet; each change, or the one, is `section.key=value` and wins over the file.

    Raises UsageError for an unknown section or setting with the near name, and for a value out of its range, and
    InputError where there is no such file.
    """
    path = Path(path)
    if not path.exists():
        todo = "write one for your rows with foldkit new FILE, or name one with --sheet"
        raise InputError(path, "sheet", "an existing file", None, todo)
    values = read_toml(path)
    for change in [changes] if isinstance(changes, str) else changes:
        _apply(values, change)
    return sheet_from_mapping(values, path.parent, str(path))


def sheet_from_mapping(values: Mapping[str, Any], folder: Path, where: str) -> Sheet:
    """Parse the sections of a sheet."""
    sections = {f.name: f for f in dataclasses.fields(Sheet) if f.name != "folder"}
    for name, section in values.items():
        if name not in sections:
            raise UsageError(where, f"[{name}]", "a known section", name, near_name(name, sections))
        if not isinstance(section, Mapping):
            raise UsageError(where, name, f"a section [{name}]", section, f"write [{name}] above its settings")
    for name in ("rows", "template"):
        if name not in values:
            raise UsageError(where, f"[{name}]", "this section", None, f"add [{name}]")
    kinds = {
        "rows": RowsSettings,
        "template": TemplateSettings,
        "split": SplitSettings,
        "base": BaseSettings,
        "adapter": AdapterSettings,
        "train": TrainSettings,
        "score": ScoreSettings,
    }
    parsed: dict[str, Any] = {
        name: read_settings(kinds[name], section, f"{where}, [{name}]") for name, section in values.items()
    }
    return Sheet(**parsed, folder=folder)


def _apply(values: dict[str, Any], change: str) -> None:
    name, sign, text = change.partition("=")
    section, dot, key = name.strip().partition(".")
    if not sign or not dot or not key:
        raise UsageError("--set", "change", "section.key=value", change, "for example train.epochs=2")
    known = [f.name for f in dataclasses.fields(Sheet) if f.name != "folder"]
    if section not in known:
        raise UsageError("--set", change, "a known section", section, near_name(section, known))
    place = values
    *outer, last = f"{section}.{key}".split(".")
    for n, step in enumerate(outer, 1):
        place = place.setdefault(step, {})
        if not isinstance(place, dict):
            raise UsageError("--set", change, f"a section in {step}", place, f"write {'.'.join(outer[:n])}=VALUE")
    place[last] = literal(text.strip())


def literal(text: str) -> Any:
    """Read a value as TOML would; plain words are text."""
    try:
        return tomllib.loads(f"value = {text}")["value"]
    except tomllib.TOMLDecodeError:
        return text
