"""The contenders of a sheet: the base, the base with worked examples, adapters, and answers made elsewhere."""

from __future__ import annotations

from foldkit.adapters import put_on
from foldkit.adapters.file import Loaded
from foldkit.answering import Answerer, NearestShots, Shots, draw_shots, key_of
from foldkit.formats import InputError
from foldkit.rows.near import nearest, plain
from foldkit.scoring import Contender, ContenderSettings
from foldkit.scoring.contender import replies_from_file
from foldkit.scoring.scorecard import Given

from .scoring_setup import ScoringSetup


def contenders_of_base(setup: ScoringSetup) -> list[Contender]:
    """Return the base and the base with shots. Raises InputError for a prompt that does not fit it."""
    inputs = setup.inputs
    asker = Answerer(setup.base.decoder, inputs.side, inputs.template, inputs.markup)
    found = [Contender("base", asker)]
    found += [Contender(one.name, asker, shots=shots_of(one, setup)) for one in setup.settings.contender if one.shots]
    for contender in found:
        _check_room(contender, setup)
    return found


def contender_with_adapter(name: str, loaded: Loaded, setup: ScoringSetup) -> Contender:
    """Return the contender of an adapter, which is put on the base in the place of the one before."""
    adapter = put_on(setup.base, loaded)
    answerer = Answerer.of_adapter(setup.base.decoder, setup.inputs.side, adapter, loaded.header)
    return Contender(name, answerer, adapted=True)


def made_elsewhere(setup: ScoringSetup) -> dict[str, Given]:
    """Return what the contenders give whose answers stand in a file."""
    files = {one.name: setup.sheet.path(one.answers) for one in setup.settings.contender if one.answers}
    target = setup.inputs.template.target
    return {name: Given(name, replies_from_file(path, setup.rows, target), 0.0) for name, path in files.items()}


def shots_of(one: ContenderSettings, setup: ScoringSetup) -> Shots | NearestShots:
    """Return the worked examples of a contender: drawn by its seed, or for each question the nearest of train.

    Near copies of the question are no examples of it.
    """
    if not one.nearest:
        return draw_shots(setup.train_rows, one.shots, one.seed)
    template = setup.inputs.template
    prompts = [plain(key_of(template, row)) for row in setup.train_rows]
    chosen: dict[str, Shots] = {}
    progress = setup.progress(f"examples for {one.name}", len(setup.cells))
    for row in setup.cells:
        close = nearest(key_of(template, row), prompts, one.shots + 20)
        fit = [place for place, alike in close if alike < setup.sheet.split.near][: one.shots]
        chosen[key_of(template, row)] = Shots(tuple(setup.train_rows[place] for place in reversed(fit)))
        progress(1)
    return NearestShots(chosen)


def _check_room(contender: Contender, setup: ScoringSetup) -> None:
    """Raise InputError for a prompt that with the row's own reply does not fit the base."""
    room = setup.base.decoder.spec.max_positions
    for (number, _), prompt in zip(setup.rows, contender.prompts(setup.cells), strict=True):
        if len(prompt) + setup.lengths[number] > room:
            allowed = f"at most {room} tokens, all that the base has room for"
            found = f"{len(prompt)} of the prompt and {setup.lengths[number]} of the reply"
            raise InputError("[score]", f"{contender.name}, row {number}", allowed, found, "ask for fewer shots")
