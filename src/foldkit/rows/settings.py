"""Where rows come from and how their files are read."""

from __future__ import annotations

import io
import re
from dataclasses import dataclass, field

from foldkit.formats import UsageError, one_of
from foldkit.formats.settings import named_groups, within

from .shapes import (
    PAIRING,
    SHAPES,
    BilingualSettings,
    ChoicesSettings,
    ComparedSettings,
    GradedSettings,
    GroupedSettings,
    JudgedSettings,
    MarkedSettings,
    PickedSettings,
    PiecesSettings,
    TickedSettings,
    TranscriptSettings,
)

ON_BAD = ("stop", "set aside")
UNITS = ("file", "paragraph", "heading", "line")


@dataclass(frozen=True)
class RowsSettings:
    """Where the rows come from.

    `source` is a file, a folder or a glob. `columns` names ours with theirs, a column or a path in one that holds
    objects or lists: `{ note = "Notiz", answer = "answers.text.0" }`. `strip` takes blanks off both ends of every cell.
    `on_bad` says whether a row that cannot be read stops the work or is set aside. `delimiter`, `header` and `skip`,
    how many lines stand above it, are for tables of text, `key` is the path to the list in a JSON file. `unit` is what
    one row of a text file is; or `pattern` is a regular expression whose named groups are the cells of each line that
    it matches, and other lines go on with the last group. `as_text` are endings of other files that are text.

    `transcript`, `grouped`, `bilingual`, `graded`, `judged`, `picked`, `compared`, `choices`, `ticked`, `marked` and
    `pieces` say what a source is to be made into first; conversations that `graded`, `judged` or `picked` have paired
    are `compared` then.
    """

    source: str
    columns: dict[str, str] = field(default_factory=dict)
    strip: bool = True
    on_bad: str = "stop"
    encoding: str = "utf-8"
    delimiter: str = ""
    skip: int = 0
    header: bool = True
    key: str = ""
    unit: str = "paragraph"
    pattern: str = ""
    as_text: tuple[str, ...] = ()
    transcript: TranscriptSettings | None = None
    grouped: GroupedSettings | None = None
    bilingual: BilingualSettings | None = None
    graded: GradedSettings | None = None
    judged: JudgedSettings | None = None
    picked: PickedSettings | None = None
    compared: ComparedSettings | None = None
    choices: ChoicesSettings | None = None
    ticked: TickedSettings | None = None
    marked: MarkedSettings | None = None
    pieces: PiecesSettings | None = None

    @property
    def shapes(self) -> tuple[str, ...]:
        """The names of the shapes that the source has, in order; none where it is a table of examples already."""
        return tuple(name for name in SHAPES if getattr(self, name) is not None)

    def __post_init__(self) -> None:
        one_of(self.on_bad, ON_BAD, "[rows]", "on_bad")
        one_of(self.unit, UNITS, "[rows]", "unit")
        if self.shapes[1:] not in ((), ("compared",)) or (len(self.shapes) > 1 and self.shapes[0] not in PAIRING):
            allowed = f"one of them, or compared beside {', '.join(PAIRING)}"
            raise UsageError("[rows]", "shape", allowed, " and ".join(self.shapes), "leave the others out")
        if self.pattern and not named_groups(self.pattern, "[rows]", "pattern"):
            todo = "for example (?P<speaker>[^:]+): (?P<text>.*)"
            raise UsageError("[rows]", "pattern", "named groups", self.pattern, todo)
        for name in self.as_text:
            if not re.fullmatch(r"\.[^.A-Z/]+", name):
                raise UsageError("[rows]", "as_text", "endings in small letters, as .py", name, "leave the rest out")
        within(self.skip, 0, 10**6, "[rows]", "skip")
        if len(self.delimiter) > 1:
            raise UsageError("[rows]", "delimiter", "one character", self.delimiter, "leave it out for , and tab")
        try:
            io.TextIOWrapper(io.BytesIO(), encoding=self.encoding)
        except (LookupError, ValueError):
            raise UsageError(
                "[rows]", "encoding", "a known encoding of text", self.encoding, "for example utf-8"
            ) from None
