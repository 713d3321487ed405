"""Lines of a text in which a pattern finds cells: who said what, and when."""

from __future__ import annotations

import re
from collections import Counter
from collections.abc import Iterator
from pathlib import Path

from .contract import Bad, Raw

# A time in signs and figures, in brackets or before a dash, then a name and a colon; or the name alone.
_PATTERNS = (
    r"\[(?P<time>\d[^\]]{3,25})\] *(?P<speaker>[^:]{1,40}): (?P<text>.*)",
    r"(?P<time>\d[\d/.:, -]*\d(?: ?[AaPp][Mm])?) - (?P<speaker>[^:]{1,40}): (?P<text>.*)",
    r"(?P<time>\d[\d/.:, -]*\d(?: ?[AaPp][Mm])?) +(?P<speaker>[^:\d][^:]{0,39}): (?P<text>.*)",
    r"(?P<speaker>[^:\d][^:]{0,39}): +(?P<text>.*)",
)
_SEEN, _LEAST, _SPEAKERS, _OFTEN = 2000, 0.3, 20, 0.1


def matched_lines(path: Path, text: str, pattern: str) -> Iterator[Raw | Bad]:
    """Yield a row for each line that the pattern matches as a whole, its named groups as cells, and `file`.

    Other lines go on with the last group of the line before them.
    """
    known = re.compile(pattern)
    last = list(known.groupindex)[-1]
    held: tuple[str, dict[str, str]] | None = None
    for number, line in enumerate(text.split("\n"), 1):
        place = f"{path}, line {number}"
        if match := known.fullmatch(line):
            if held:
                yield Raw(*held)
            held = place, {**match.groupdict(""), "file": path.name}
        elif held:
            held[1][last] += f"\n{line}"
        elif line.strip():
            yield Bad(place, "line", "one that pattern in [rows] matches", line, "mend the pattern, or the file")
    if held:
        yield Raw(*held)


def found_pattern(text: str) -> str:
    """Return the pattern of lines that say who speaks, "" where few lines say such a thing.

    Of the speakers two at least come again and again.
    """
    lines = [line for line in text.split("\n") if line.strip()][:_SEEN]
    for pattern in _PATTERNS if lines else ():
        matches = [match for line in lines if (match := re.fullmatch(pattern, line))]
        speakers = Counter(match["speaker"] for match in matches)
        often = [name for name, n in speakers.items() if n >= _OFTEN * len(matches)]
        whole = len(matches) > _LEAST * len(lines) and re.fullmatch(pattern, lines[0])
        if whole and len(often) > 1 and len(speakers) <= _SPEAKERS:
            return pattern
    return ""
