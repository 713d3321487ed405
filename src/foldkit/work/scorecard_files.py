"""What a scoring leaves in a folder: JSON, Markdown, the rows, a picture."""

from __future__ import annotations

from foldkit.formats import write_aside
from foldkit.formats.tables import write_table
from foldkit.runs import RunFolder
from foldkit.scoring import Scorecard, ScoreSettings
from foldkit.scoring.drawing import save_scorecard
from foldkit.scoring.markdown import all_lines, scorecard_markdown, tables


def write_scorecard(card: Scorecard, folder: RunFolder, settings: ScoreSettings) -> None:
    """Write the scorecard as JSON and Markdown, its rows as JSON lines and CSV, and its picture."""
    said = {"says": all_lines(card, settings.enough), "tables": tables(card)}
    folder.write_scorecard(card.as_mapping() | said, card.rows)
    write_aside(folder.scorecard.with_suffix(".md"), scorecard_markdown(card, settings.enough))
    write_table(folder.rows.with_suffix(".csv"), card.row_table())
    save_scorecard(card, folder.scorecard.with_suffix(".png"))
