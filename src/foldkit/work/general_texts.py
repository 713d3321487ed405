"""The texts that a contender should not forget, and the test parts of other sheets: their losses."""

from __future__ import annotations

from foldkit.datasets import Coded
from foldkit.formats import InputError
from foldkit.formats.jsonl import read_text
from foldkit.scoring import Contender
from foldkit.scoring.contender import summed_losses, text_pieces

from .scoring_setup import ScoringSetup
from .sheet import read_sheet
from .steps import read_test_part


class GeneralTexts:
    """The files and sheets that `general` names, read. Raises InputError for one of which no loss can be found."""

    def __init__(self, setup: ScoringSetup) -> None:
        self.setup = setup
        self.read = {name: self._read(name) for name in setup.settings.texts}

    @property
    def left_out(self) -> dict[str, int]:
        """How many rows of other sheets are not among them, where there are any."""
        others = {name: one for name, one in self.read.items() if isinstance(one, Coded)}
        return {name: len(one.set_aside) for name, one in others.items() if one.set_aside}

    def losses(self, contender: Contender) -> dict[str, tuple[list[float], list[int]]]:
        """Return for each text the summed loss (nats) and the tokens of each piece."""
        return {name: self._losses(name, contender) for name in self.read}

    def _losses(self, name: str, contender: Contender) -> tuple[list[float], list[int]]:
        given = self.read[name]
        if isinstance(given, str):
            pieces = text_pieces(contender.answerer, given, self.setup.sheet.train.window)
        else:
            pieces = [(one.ids, one.learned) for one in given.examples]
        progress = self.setup.progress(f"{contender.name}, {name}", len(pieces))
        return summed_losses(contender.answerer, pieces, progress, adapted=contender.adapted)

    def _read(self, name: str) -> str | Coded:
        """Return a general text, or the test part of another sheet."""
        path, setup = self.setup.sheet.path(name), self.setup
        if path.suffix != ".toml":
            text = read_text(path)
            if len(setup.inputs.side.tokenizer.encode_text(text)) < 2:
                todo = "add to it, or leave it out of [score]"
                raise InputError(path, "general", "a text of at least two tokens", text, todo)
            return text
        found = read_test_part(read_sheet(path), setup.sheet.base_path(), setup.base.decoder.spec.max_positions)
        if not len(found.examples):
            raise InputError(path, "rows in test", "at least one", "none", "give test a share")
        return found
