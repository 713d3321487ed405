"""Asking a base, and an adapter with all that its file carries."""

from __future__ import annotations

import dataclasses
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from pathlib import Path

from foldkit.adapters import AdapterHeader, Loaded, put_on, read_adapter, read_header, summed
from foldkit.answering import Answerer, AnswerSettings, Streamed
from foldkit.formats import UsageError, near_name
from foldkit.models import Base
from foldkit.models.threads import giving_way
from foldkit.rows import AskedRows
from foldkit.runs import RunFolder
from foldkit.templates import Markup, template_from_mapping
from foldkit.tokens import TextSide, open_text_side

from .inputs import open_inputs
from .opening import opened_base
from .sheet import Sheet, base_path

# The text of the main slot, or the texts of slots by name.
Question = str | Mapping[str, str]


@dataclass(frozen=True)
class Asked:
    """An adapter on its base, ready for questions; `held` are the base's weights and compute.

    `files` holds every adapter that was asked, so that changing between them reads nothing; `adapters` are those on the
    base now, with their weights.
    """

    answerer: Answerer
    reading: AskedRows
    base: Base
    side: TextSide
    held: tuple[str, str]
    files: dict[Path, Loaded] = field(default_factory=dict)
    adapters: Mapping[Path, float] = field(default_factory=dict)

    def using(self, adapters: Mapping[Path, float]) -> Asked:
        """Return this with the weighted sum of these adapter files on the base, in the first one's template.

        Raises InputError for an adapter of another base, or several that can't be added up.
        """
        for path in adapters:
            if path not in self.files:
                self.files[path] = read_adapter(path, self.base)
        parts = [(self.files[path], weight) for path, weight in adapters.items()]
        loaded = parts[0][0] if [weight for _, weight in parts] == [1] else summed(parts)
        adapter = put_on(self.base, loaded)
        answerer = Answerer.of_adapter(self.base.decoder, self.side, adapter, loaded.header)
        return dataclasses.replace(self, answerer=answerer, reading=_reading(loaded.header), adapters=dict(adapters))

    @property
    def slots(self) -> tuple[str, ...]:
        """Every slot that a question may fill."""
        return self.answerer.template.prompt_slots()

    @property
    def main_slot(self) -> str:
        """The slot that a plain question fills, "" where nothing is asked.

        That of the last whole conversation, or the first one of the last user turn.
        """
        asking = [one for one in self.answerer.template.turn if one.slots and (one.each or one.role == "user")]
        return asking[-1].slots[0] if asking else next(iter(self.slots), "")

    @property
    def contenders(self) -> tuple[str, ...]:
        """Who can answer: the base, and the adapter where there is one."""
        return ("base", "adapter") if self.answerer.adapter else ("base",)

    def row(self, text: str, slots: Mapping[str, str]) -> dict[str, str]:
        """Return the row of a question, blanks at the ends of cells taken off where the training did so.

        Raises UsageError for a slot that the template has not, and for a text where it asks nothing.
        """
        if text and not self.main_slot:
            name = self.answerer.template.name
            raise UsageError("question", "text", f"none, for template {name!r} asks nothing", text, "leave it out")
        for name in slots:
            if name not in self.slots:
                raise UsageError("question", "slot", "a slot of the template", name, near_name(name, self.slots))
        cells = ({self.main_slot: text} if text else {}) | dict(slots)
        return {name: cell.strip() if self.reading.strip else cell for name, cell in cells.items()}

    @giving_way()
    def answer(self, question: Question, settings: AnswerSettings | None = None, *, adapted: bool = True) -> str:
        """Return the answer of the adapter, or of the base itself; the likeliest one without settings."""
        return self.answerer.answers([self._row_of(question)], settings or AnswerSettings(), adapted=adapted)[0]

    def pieces(self, question: Question, settings: AnswerSettings | None = None, *, adapted: bool = True) -> Streamed:
        """Return the answer in pieces as they are found."""
        return self.answerer.streamed(self._row_of(question), settings or AnswerSettings(), adapted=adapted)

    @giving_way()
    def several(
        self,
        questions: Sequence[Question],
        settings: AnswerSettings,
        n_answers: int,
        first: int = 0,
        *,
        adapted: bool = True,
    ) -> list[list[str]]:
        """Return so many answers to each question; what one draws depends on `first` and its place after it."""
        repeated = [row for row in map(self._row_of, questions) for _ in range(n_answers)]
        found = self.answerer.answers(repeated, settings, adapted=adapted, first=first * n_answers)
        return [found[start : start + n_answers] for start in range(0, len(found), n_answers)]

    def choice(self, question: Question, options: Sequence[str], *, adapted: bool = True) -> str:
        """Return the likeliest of these answers."""
        return self.choices([question], options, adapted=adapted)[0]

    @giving_way()
    def choices(self, questions: Sequence[Question], options: Sequence[str], *, adapted: bool = True) -> list[str]:
        """Return the likeliest of these answers to each question."""
        return self.answerer.likeliest([self._row_of(one) for one in questions], options, adapted=adapted)

    def _row_of(self, question: Question) -> dict[str, str]:
        return self.row(question, {}) if isinstance(question, str) else self.row("", question)


def open_asked(
    adapter: str | Path | Mapping[str, float] | Mapping[Path, float],
    base_at: str | Path | None = None,
    device: str = "auto",
) -> Asked:
    """Open an adapter file, or several with their weights, on the base: `base_at`, or the one of the first one's run.

    `device` is that of `[base]`. Raises InputError with both fingerprints when the base is another one.
    """
    weights = adapter if isinstance(adapter, Mapping) else {adapter: 1.0}
    adapters = {Path(path): weight for path, weight in weights.items()}
    first = next(iter(adapters))
    header = read_header(first)
    path = Path(base_at or base_path(header.base, _sheet_folder(RunFolder(first.parent))))
    base = opened_base(path, header.compute, header.weights, device)
    side = open_text_side(path)
    template = template_from_mapping(header.template, "adapter file, template")
    alone = Answerer(base.decoder, side, template, Markup.from_mapping(header.markup, "adapter file, markup"))
    return Asked(alone, _reading(header), base, side, (header.weights, header.compute)).using(adapters)


def open_asked_base(sheet: Sheet) -> Asked:
    """Open the base of a sheet without an adapter, in the sheet's own template and markup."""
    inputs, own = open_inputs(sheet), sheet.base
    base = opened_base(sheet.base_path(), own.compute, own.weights, own.device)
    answerer = Answerer(base.decoder, inputs.side, inputs.template, inputs.markup)
    return Asked(answerer, AskedRows.of(sheet.rows), base, inputs.side, (own.weights, base.compute))


def _reading(header: AdapterHeader) -> AskedRows:
    return AskedRows(header.strip, header.columns, header.choices)


def _sheet_folder(run: RunFolder) -> Path:
    """Return the folder that the run's sheet stood in, or this one when the adapter stands alone."""
    if not run.sheet.exists():
        return Path()
    return run.path / str(run.read_sheet()["folder"])
