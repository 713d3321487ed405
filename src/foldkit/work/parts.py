"""What a training is made of: dataset, base and adapter of a sheet, checked and opened before anything is written."""

from __future__ import annotations

import dataclasses
from typing import TYPE_CHECKING, Any

from foldkit.datasets import Dataset
from foldkit.formats import InputError
from foldkit.rows import AskedRows

from .inputs import Inputs, open_inputs
from .opening import opened_base
from .sheet import Sheet
from .steps import build, parts_fingerprint

if TYPE_CHECKING:
    from foldkit.adapters import Adapter, AdapterHeader
    from foldkit.models import Base
    from foldkit.training.pair_objective import Reference

# By fewer rows of validation the best adapter is chosen much by chance.
_FEW = 10


class Parts:
    """The dataset, the base and the adapter of one sheet, and the header that the adapter's file will have.

    A base that is to be `divided` between processes is opened on the processor. `reference` has the values that an
    objective of pairs compares with, once they were found.
    """

    def __init__(self, sheet: Sheet, *, divided: bool = False) -> None:
        from foldkit.training.batches import check_parts

        inputs = open_inputs(sheet)
        self.sheet = sheet
        self.dataset: Dataset = build(sheet, inputs)
        check_parts(self.dataset.parts["train"], self.dataset.parts["validation"], sheet.train)
        # What is to be divided between devices may not fit one of them.
        device = "cpu" if divided else sheet.base.device
        self.base: Base = opened_base(
            sheet.base_path(), sheet.base.compute, sheet.base.weights, device, divided=divided
        )
        room, window = self.base.decoder.spec.max_positions, sheet.train.window
        if window > room:
            raise InputError("[train]", "window", f"at most the base's {room}", window, "lower the window")
        self.adapter: Adapter = self._new_adapter()
        self.header: AdapterHeader = self._header(inputs)
        self.end_ids = inputs.encoder.end_ids
        self.tokenizer = inputs.side.tokenizer
        self.reference: Reference | None = None

    def _new_adapter(self) -> Adapter:
        """Attach the adapter as a training of the sheet begins with it."""
        from foldkit.adapters import attach, begin_with, frozen_products, read_adapter

        settings = self.sheet.adapter
        if settings.begin:
            return begin_with(self.base, settings, self.sheet.path(settings.begin))
        under = read_adapter(self.sheet.path(settings.over), self.base) if settings.over else None
        return attach(self.base.decoder, settings, frozen=frozen_products(under) if under else None)

    def _header(self, inputs: Inputs) -> AdapterHeader:
        from foldkit.adapters import AdapterHeader, read_header

        first = self.sheet.adapter.begin or self.sheet.adapter.over
        before = read_header(self.sheet.path(first)) if first else None
        sheet = self.sheet
        return AdapterHeader(
            sheet.adapter,
            inputs.template.as_mapping(),
            inputs.markup.as_mapping(),
            sheet.base.model,
            self.base.fingerprint,
            self.dataset.fingerprint,
            parts_fingerprint(sheet, inputs),
            (*before.earlier, before.parts) if before else (),
            **vars(AskedRows.of(sheet.rows)),
            weights=sheet.base.weights,
            compute=sheet.base.compute,
        )

    @property
    def notes(self) -> list[str]:
        """What is worth saying before a training of these."""
        found, aside = [*self.base.notes, *self.dataset.notes], self.dataset.set_aside
        if aside:
            n = f"{len(aside)} row{'s' * (len(aside) != 1)}"
            first = f"row {aside[0].row}, {aside[0].reason}"
            found.append(f"{n} set aside, from which nothing is learned, the first {first}; foldkit build names them")
        n_check = len(self.dataset.parts["validation"])
        if 0 < n_check < _FEW:
            n = f"{n_check} row{'s choose' if n_check > 1 else ' chooses'} the best adapter"
            found.append(f"{n}, which is much by chance: a larger split.validation chooses better")
        if any(parts != self.header.parts for parts in self.header.earlier):
            begun = self.sheet.adapter.begin or self.sheet.adapter.over
            what = (
                "was trained on other rows, or on another split of them: validation rows may be among what it learned"
            )
            found.append(f"{begun} {what}")
        return found

    @property
    def made_from(self) -> dict[str, Any]:
        """What a checkpoint must share with the training that goes on from it."""
        sheet = self.sheet
        sections = {name: dataclasses.asdict(getattr(sheet, name)) for name in ("train", "adapter")}
        how = {"weights": sheet.base.weights, "compute": sheet.base.compute, "device": sheet.base.device}
        return sections | how | {"base": self.base.fingerprint, "data": self.dataset.fingerprint}
