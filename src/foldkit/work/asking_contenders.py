"""Asking a contender all that a scorecard needs of it; answers are kept, so that nothing is asked twice."""

from __future__ import annotations

import dataclasses
from collections.abc import Sequence
from pathlib import Path
from typing import Any

from foldkit.answering import NO_SHOTS, Answerer
from foldkit.formats import InputError, fingerprint_files, fingerprint_value
from foldkit.scoring import Contender, Reply, contender_replies
from foldkit.scoring.contender import Row, summed_losses
from foldkit.scoring.rewording import reworded
from foldkit.scoring.scorecard import Given
from foldkit.templates import Template

from .general_texts import GeneralTexts
from .scored_rows import template_of_same_reply
from .scoring_setup import ScoringSetup

# Rows of train whose ids are held at once.
_PIECES_AT_ONCE = 4096


class Asking:
    """What contenders are asked: every row, adapters reworded ones and their own tokens too, and general texts.

    Raises InputError for rewordings and texts that cannot be asked, before anything is.
    """

    def __init__(self, setup: ScoringSetup) -> None:
        self.setup, settings = setup, setup.settings
        asked_in = [name for name in settings.reword if name not in settings.edits]
        self.templates = {
            name: template_of_same_reply(name, setup.sheet, setup.inputs, setup.cells) for name in asked_in
        }
        self.slots = _slots_of_text(setup.inputs.template) if settings.edits and setup.adapters else set[str]()
        self.general = GeneralTexts(setup)

    def given(self, contender: Contender) -> Given:
        """Ask one contender all rows, reworded ones too, and take its loss on the general texts."""
        setup = self.setup
        adapter = fingerprint_files([setup.adapters[contender.name]]) if contender.adapted else ""
        replies, n_prompt = self._replies(contender, setup.cells, adapter, contender.name)
        general = self.general.losses(contender) if contender.shots is NO_SHOTS else {}
        again = self._asked_again(contender, adapter) if contender.adapted else {}
        pieces = self._pieces(contender) if contender.adapted else []
        return Given(contender.name, replies, n_prompt, general, again, pieces)

    def suspects(self, contender: Contender) -> list[dict[str, Any]]:
        """Return the rows of train whose replies the contender still finds the hardest, a token."""
        setup = self.setup
        if not setup.settings.suspects:
            return []
        numbers, rows = setup.train_numbers, setup.train_rows
        losses: list[float] = []
        answerer, template = contender.answerer, contender.answerer.template
        progress = setup.progress("rows of train that stay hard", len(rows))
        for start in range(0, len(rows), _PIECES_AT_ONCE):
            some = rows[start : start + _PIECES_AT_ONCE]
            pieces = [answerer.with_reply(row, template.target(row)) for row in some]
            found = summed_losses(answerer, pieces, progress, adapted=contender.adapted)
            losses += [total / n for total, n in zip(*found, strict=True)]
        worst = sorted(range(len(rows)), key=lambda index: -losses[index])[: setup.settings.suspects]
        return [
            {"row": numbers[index], "loss": losses[index], "reply": template.target(rows[index])} for index in worst
        ]

    def _asked_again(self, contender: Contender, adapter: str) -> dict[str, list[Reply]]:
        """Ask with every prompt reworded: by the simple edits together, and in each template that is named."""
        setup, found = self.setup, {}
        if edits := setup.settings.edits:
            named = " and ".join(edits)
            rows = list(reworded(setup.cells, self.slots, edits, setup.settings.seed))
            found[named] = self._replies(contender, rows, adapter, f"{contender.name}, {named}")[0]
        own = contender.answerer
        for name, template in self.templates.items():
            asker = Answerer(own.decoder, setup.inputs.side, template, own.encoder.markup, own.adapter)
            again = dataclasses.replace(contender, answerer=asker)
            found[name] = self._replies(again, setup.cells, adapter, f"{contender.name}, {name}")[0]
        return found

    def _replies(self, contender: Contender, rows: Sequence[Row], adapter: str, name: str) -> tuple[list[Reply], float]:
        """Return the replies to these rows, and how many tokens their prompts have in the mean."""
        setup, ranked = self.setup, "ranked" in self.setup.settings.measures
        prompts = contender.prompts(rows)
        kept_at = self._kept_at(contender, rows, prompts, adapter, ranked=ranked)
        progress = setup.progress(name, len(rows))
        replies = contender_replies(
            contender, rows, prompts, setup.max_tokens, setup.settings.batch, kept_at, progress, ranked=ranked
        )
        return replies, sum(map(len, prompts)) / len(rows)

    def _kept_at(
        self,
        contender: Contender,
        rows: Sequence[Row],
        prompts: Sequence[tuple[int, ...]],
        adapter: str,
        *,
        ranked: bool,
    ) -> Path:
        """Return the file that keeps a contender's answers: its name holds all that they depend on."""
        answerer, setup = contender.answerer, self.setup
        made_from = {
            "base": setup.base.fingerprint,
            "held": [setup.sheet.base.weights, setup.base.compute, setup.base.decoder.device.type],
            "adapter": adapter,
            "template": answerer.template.as_mapping(),
            "markup": answerer.encoder.markup.as_mapping(),
            "prompts": fingerprint_value(prompts),
            "replies": fingerprint_value([[answerer.template.target(row) for row in rows], ranked]),
            "limits": [setup.max_tokens, setup.settings.batch],
        }
        folder = setup.sheet.path("answers")
        folder.mkdir(exist_ok=True)
        return folder / f"{fingerprint_value(made_from).removeprefix('sha256:')}.jsonl"

    def _pieces(self, contender: Contender) -> list[list[str]]:
        """Return the tokens of each row's target as text."""
        answerer, found = contender.answerer, []
        for row in self.setup.cells:
            ids, own = answerer.with_reply(row, answerer.template.target(row))
            found.append([answerer.encoder.tokenizer.decode([i]) for i, flag in zip(ids, own, strict=True) if flag])
        return found


def _slots_of_text(template: Template) -> set[str]:
    """Return the slots of a prompt that can be reworded; raises InputError where there are none."""
    kept = {slot for pattern in template.turn if pattern.learned or pattern.each for slot in pattern.slots}
    slots = set(template.prompt_slots()) - kept
    if not slots:
        todo = "leave reword out"
        raise InputError("[score]", "reword", "a template whose prompt has slots of text", template.name, todo)
    return slots
