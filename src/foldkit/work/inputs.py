"""What every step needs: the rows, the template, and the encoder of the base. No weights are read."""

from __future__ import annotations

from dataclasses import dataclass

import pandas as pd

from foldkit.rows import BadRow, read_rows
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


def open_inputs(sheet: Sheet) -> Inputs:
    """Read rows and template, and open the text side of the base."""
    rows = read_rows(sheet.rows, sheet.folder)
    template = read_template(sheet.template.use, sheet.folder)
    side = open_text_side(sheet.base_path())
    return Inputs(rows.table, rows.bad, template, side, side.markup(sheet.base.markup))
