"""One row a label with a list of texts: a row for each text."""

from __future__ import annotations

import random
from collections import defaultdict
from dataclasses import dataclass

import pandas as pd

from foldkit.formats.settings import within

from ..paths import opened
from ..tables import column
from .contract import renumbered


@dataclass(frozen=True)
class GroupedSettings:
    """The columns of the `label` and of its `texts`, a list or lines of text.

    Labels with fewer than `minimum` texts are left out; of one with more than `maximum`, that many are drawn by `seed`
    (0: no limit).
    """

    label: str = "label"
    texts: str = "texts"
    minimum: int = 1
    maximum: int = 0
    seed: int = 11

    def __post_init__(self) -> None:
        within(self.minimum, 1, 10**9, "[rows.grouped]", "minimum")
        if self.maximum:
            within(self.maximum, self.minimum, 10**9, "[rows.grouped]", "maximum")


def one_text_each(table: pd.DataFrame, settings: GroupedSettings) -> tuple[pd.DataFrame, dict[int, str]]:
    """Return rows with the label, `text` and `source_row`; a text that stands twice under a label is taken once."""
    labels = column(table, settings.label, "[rows.grouped] label").tolist()
    cells = column(table, settings.texts, "[rows.grouped] texts").tolist()
    found: dict[str, dict[str, int]] = defaultdict(dict)
    left_out: dict[int, str] = {}
    for number, label, cell in zip(table.index.tolist(), labels, cells, strict=True):
        texts = [text for text in _listed(cell) if text not in found[label]]
        found[label] |= dict.fromkeys(texts, number)
        if not texts:
            left_out[number] = f"label {label!r}: no text that it does not have already"
    rows: list[dict[str, str]] = []
    for label, own in found.items():
        chosen = list(own)
        if len(chosen) < settings.minimum:
            said = f"label {label!r}: {len(chosen)} texts, the minimum is {settings.minimum}"
            left_out |= dict.fromkeys(own.values(), said)
            continue
        if settings.maximum and len(chosen) > settings.maximum:
            drawn = set(random.Random(f"{settings.seed} {label}").sample(chosen, settings.maximum))
            chosen = [text for text in chosen if text in drawn]
        rows += [{settings.label: label, "text": text, "source_row": str(own[text])} for text in chosen]
    return renumbered(rows, (settings.label, "text", "source_row")), left_out


def _listed(cell: str) -> list[str]:
    """Return the texts of a cell that are not blank: a JSON list, or one a line."""
    values = opened(cell)
    texts = [str(value) for value in values] if isinstance(values, list) else cell.splitlines()
    return [text.strip() for text in texts if text.strip()]
