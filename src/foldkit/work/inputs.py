"""What every step needs: the rows, the template, and the encoder of the base. No weights are read."""

from __future__ import annotations

import dataclasses
import functools
from collections.abc import Iterator
from dataclasses import dataclass
from pathlib import Path
from typing import Any

import pandas as pd

from foldkit.datasets import Coder, Finding, code_rows, lint_template
from foldkit.formats import InputError, fingerprint_files, fingerprint_value
from foldkit.rows import BadRow, Rows, find_files, stream_rows
from foldkit.rows.decisions import Applied, read_decisions
from foldkit.rows.reading import collected
from foldkit.rows.tables import spread
from foldkit.templates import Markup, Template, read_template
from foldkit.tokens import Encoder, TextSide, open_text_side

from .sheet import Sheet


@dataclass(frozen=True)
class Inputs:
    """Rows, template, text side of the base and markup of one sheet."""

    sheet: Sheet
    template: Template
    side: TextSide
    markup: Markup
    decided: bool

    def decisions(self) -> Applied:
        """Return the decisions made by hand, to be applied in a pass over all rows."""
        return Applied(read_decisions(decisions_path(self.sheet)) if self.decided else {})

    def stream(self, applied: Applied | None = None) -> Iterator[Rows]:
        """Yield the rows in pieces, decisions made by hand applied; rows that were dropped count as bad ones."""
        applied = applied or self.decisions()
        needed = (*self.template.slots(), *self.sheet.split.columns)
        for rows in stream_rows(self.sheet.rows, self.sheet.folder, needed=needed):
            table, dropped = applied.to(rows.table)
            bad = (*rows.bad, *(BadRow(row, "dropped in review") for row in dropped))
            yield dataclasses.replace(rows, table=table, bad=bad)

    @functools.cached_property
    def table(self) -> pd.DataFrame:
        """All rows at once."""
        return collected(self.stream()).table

    @functools.cached_property
    def encoder(self) -> Encoder:
        """The encoder of the base in this markup."""
        return Encoder(self.side, self.markup)

    @functools.cached_property
    def made_from(self) -> dict[str, Any]:
        """What a dataset of these rows depends on: fingerprints of files and settings."""
        sheet, decisions = self.sheet, decisions_path(self.sheet)
        return {
            "rows": fingerprint_files(find_files(sheet.rows, sheet.folder)),
            "reading": dataclasses.asdict(sheet.rows),
            "decisions": fingerprint_files([decisions] if decisions.exists() else []),
            "template": fingerprint_value(self.template.as_mapping()),
            "markup": fingerprint_value(self.markup.as_mapping()),
            "tokenizer": self.side.tokenizer.fingerprint,
            "ends": self.encoder.end_ids,
            "split": dataclasses.asdict(sheet.split),
            "window": sheet.train.window,
            "paired": sheet.train.paired,
            "either": sheet.train.either,
        }

    @property
    def coder(self) -> Coder:
        """What turns these rows into examples. Raises InputError where the objective needs a rejected reply."""
        settings = self.sheet.train
        if settings.paired and not self.template.rejected_slots():
            todo = 'add `rejected = "{column}"` to it, or set objective = "reply"'
            expected = "a template whose last learned turn has a rejected reply"
            raise InputError("[train]", f"objective {settings.objective}", expected, self.template.name, todo)
        return Coder(self.template, self.encoder, settings.window, settings.paired, settings.either)


def decisions_path(sheet: Sheet) -> Path:
    """Return where decisions made by hand stand."""
    return sheet.path("decisions.jsonl")


def open_inputs(sheet: Sheet, *, decided: bool = True) -> Inputs:
    """Read the template and open the text side of the base; rows are read when they are asked for.

    Decisions made by hand are applied unless `decided` is False.
    """
    template = read_template(sheet.template.use, sheet.folder)
    side = open_text_side(sheet.base_path())
    return Inputs(sheet, template, side, side.markup(sheet.base.markup, sheet.base.markup_values), decided)


def lint(inputs: Inputs) -> list[Finding]:
    """Hold the template against the rows and the base's markup."""
    return lint_template(inputs.table, inputs.coder, inputs.sheet.split.columns)


def token_lengths(inputs: Inputs, most: int) -> list[tuple[int, int]]:
    """Return the tokens of whole examples and of their prompts, of at most so many rows from all over the table.

    Rows that cannot be used are left out.
    """
    unlimited = Coder(inputs.template, inputs.encoder, 2**20)
    examples = code_rows(spread(inputs.table, most), unlimited).examples
    return list(zip(examples.lengths.tolist(), examples.prompt_lengths.tolist(), strict=True))
