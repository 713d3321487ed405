"""What every step needs: the rows, the template, and the encoder of the base. No weights are read."""

from __future__ import annotations

from dataclasses import dataclass
from pathlib import Path

import pandas as pd

from foldkit.datasets import SplitSettings, build_dataset
from foldkit.rows import BadRow, Rows, read_rows
from foldkit.rows.decisions import apply_decisions, read_decisions
from foldkit.templates import Markup, Template, read_template
from foldkit.tokens import Encoder, TextSide, open_text_side

from .sheet import Sheet


@dataclass(frozen=True)
class Inputs:
    """Rows, template, text side of the base, markup and encoder of one sheet; `bad` are rows that cannot be read."""

    table: pd.DataFrame
    bad: tuple[BadRow, ...]
    template: Template
    side: TextSide
    markup: Markup

    @property
    def encoder(self) -> Encoder:
        """The encoder of the base in this markup."""
        return Encoder(self.side, self.markup)


def decisions_path(sheet: Sheet) -> Path:
    """Return where decisions made by hand stand."""
    return sheet.path("decisions.jsonl")


def open_inputs(sheet: Sheet, *, decided: bool = True) -> Inputs:
    """Read rows and template, and open the text side of the base.

    Decisions made by hand are applied unless `decided` is False; rows that were dropped count as bad ones.
    """
    rows = read_rows(sheet.rows, sheet.folder)
    if decided:
        table, dropped = apply_decisions(rows.table, read_decisions(decisions_path(sheet)))
        rows = Rows(table, (*rows.bad, *(BadRow(row, "dropped in review") for row in dropped)))
    template = read_template(sheet.template.use, sheet.folder)
    side = open_text_side(sheet.base_path())
    return Inputs(rows.table, rows.bad, template, side, side.markup(sheet.base.markup))


def token_lengths(inputs: Inputs, most: int = 2000) -> list[int]:
    """Return the lengths in tokens of the examples of the first `most` rows, those that cannot be used left out."""
    everything = SplitSettings(0, 0)
    dataset = build_dataset(inputs.table.head(most), inputs.template, inputs.encoder, everything, 2**20)
    return [len(example.ids) for example in dataset.parts["train"]]
