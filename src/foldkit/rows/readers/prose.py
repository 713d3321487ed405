"""Plain text and Markdown: a row is a file, a paragraph, a line, a section, or a line that a pattern takes apart."""

from __future__ import annotations

import re
from collections.abc import Iterator
from pathlib import Path

from ..settings import RowsSettings
from .contract import Bad, Raw, by_rows, open_text
from .spoken_lines import matched_lines

PARAGRAPH = r"\n[ \t]*\n\s*"


@by_rows
def read_prose(path: Path, settings: RowsSettings) -> Iterator[Raw | Bad]:
    """Yield rows with the columns `text` and `file`, and `heading` where sections are rows; or what a pattern names."""
    with open_text(path, settings.encoding) as file:
        text = file.read().replace("\r\n", "\n")
    if settings.pattern:
        yield from matched_lines(path, text, settings.pattern)
        return
    if settings.unit == "heading":
        yield from _sections(path, text)
        return
    cut = {"file": r"\Z", "paragraph": PARAGRAPH, "line": r"\n"}[settings.unit]
    place = 0
    for piece in re.split(cut, text):
        if piece.strip():
            line = text.count("\n", 0, text.index(piece, place)) + 1
            yield Raw(f"{path}, line {line}", {"text": piece.strip("\n"), "file": path.name})
        place += len(piece)


def _sections(path: Path, text: str) -> Iterator[Raw]:
    heading, lines, start, fenced = "", [], 1, False
    for number, line in enumerate([*text.split("\n"), "# "], 1):
        fenced ^= line.lstrip().startswith("```")
        match = None if fenced and number <= text.count("\n") + 1 else re.match(r"#{1,6}\s+?(.*)", line)
        if match is None:
            lines.append(line)
            continue
        body = "\n".join(lines).strip("\n")
        if body.strip() or heading:
            yield Raw(f"{path}, line {start}", {"text": body, "heading": heading, "file": path.name})
        heading, lines, start = match.group(1).strip(), [], number
