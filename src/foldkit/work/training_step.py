"""The training of a sheet: a run folder with sheet, log, checkpoints, best adapter and curve; and going on with one."""

from __future__ import annotations

import contextlib
import dataclasses
import json
import os
from collections.abc import Callable, Iterator
from pathlib import Path
from typing import TYPE_CHECKING, Any

from foldkit.formats import FoldKitError, InputError, locked, write_aside
from foldkit.formats.jsonl import read_text
from foldkit.runs import LogWriter, RunFolder, cut_log, new_run, read_log

from .inputs import open_inputs
from .sheet import Sheet, sheet_from_mapping
from .steps import build

if TYPE_CHECKING:
    from foldkit.adapters import Adapter, AdapterHeader
    from foldkit.training import TrainEvent

OnEvent = Callable[["TrainEvent"], None]
_EVENT_NAMES = {
    "Started": "started",
    "Stepped": "step",
    "Skipped": "skipped",
    "Checked": "validation",
    "Finished": "finished",
}


def _never() -> bool:
    return False


def train(
    sheet: Sheet, name: str = "", on_event: OnEvent | None = None, *, stop: Callable[[], bool] = _never
) -> RunFolder:
    """Train an adapter into a new run folder under `runs` beside the sheet.

    The folder gets the sheet, the log as it happens, checkpoints, the adapter whenever validation improves, and the
    curve. `stop` is asked after every step; a training that was stopped, or killed, goes on with `resume`.
    """
    from foldkit.models import chosen_compute

    compute = chosen_compute(sheet.base.compute)
    measured = f"computes in {compute.name}: {compute.reason}" if sheet.base.compute == "auto" else ""
    sheet = dataclasses.replace(sheet, base=dataclasses.replace(sheet.base, compute=compute.name))
    work = _Work(sheet)
    run = new_run(sheet.path("runs"), name)
    with locked(run.lock):
        _write_sheet(sheet, run)
        return work.go(run, on_event, stop, measured)


def resume(run: RunFolder, on_event: OnEvent | None = None, *, stop: Callable[[], bool] = _never) -> RunFolder:
    """Go on with a run from its last checkpoint, by the run's own sheet, as if it had never stopped.

    Events that the log holds of later steps are cut off. Raises FoldKitError while another training is at work in the
    run, and InputError when base or data are not those it began with.
    """
    with locked(run.lock):
        return _Work(sheet_of_run(run)).go(run, on_event, stop, "")


def sheet_of_run(run: RunFolder) -> Sheet:
    """Return the sheet of a run, every setting as it was resolved."""
    values = json.loads(read_text(run.sheet))
    return sheet_from_mapping(values, run.path / values.pop("folder"), str(run.sheet))


class _Work:
    """What a training is made of: checked and opened before a run folder is made."""

    def __init__(self, sheet: Sheet) -> None:
        from foldkit.adapters import AdapterHeader, attach, begin_with
        from foldkit.models import chosen_compute, open_base

        inputs = open_inputs(sheet)
        self.sheet, self.dataset = sheet, build(sheet, inputs)
        self.base = open_base(sheet.base_path(), chosen_compute(sheet.base.compute).dtype, sheet.base.weights)
        room, window = self.base.decoder.spec.max_positions, sheet.train.window
        if window > room:
            raise InputError("[train]", "window", f"at most the base's {room}", window, "lower the window")
        self.adapter: Adapter = attach(self.base.decoder, sheet.adapter)
        if sheet.adapter.begin:
            begin_with(self.adapter, sheet.path(sheet.adapter.begin), self.base)
        markup = dataclasses.asdict(inputs.markup) | {"where": "adapter file, markup"}
        self.header: AdapterHeader = AdapterHeader(
            sheet.adapter,
            inputs.template.as_mapping(),
            markup,
            sheet.base.model,
            self.base.fingerprint,
            self.dataset.fingerprint,
            sheet.rows.strip,
            sheet.base.weights,
            sheet.base.compute,
        )

    @property
    def made_from(self) -> dict[str, Any]:
        """What a checkpoint must share with the training that goes on from it."""
        sheet = self.sheet
        sections = {name: dataclasses.asdict(getattr(sheet, name)) for name in ("train", "adapter")}
        how = {"weights": sheet.base.weights, "compute": sheet.base.compute}
        return sections | how | {"base": self.base.fingerprint, "data": self.dataset.fingerprint}

    def go(self, run: RunFolder, on_event: OnEvent | None, stop: Callable[[], bool], measured: str) -> RunFolder:
        """Train from the last checkpoint of the run, or from the start where there is none."""
        from foldkit.curves import save_picture
        from foldkit.training import read_checkpoint, saved_checkpoints, train_adapter

        found = saved_checkpoints(run.checkpoints)
        snapshot = read_checkpoint(found[-1], self.made_from) if found else None
        log = LogWriter(run.log)
        with _told(run, log):
            if run.log.exists():
                cut_log(run.log, snapshot.counts["step"] if snapshot else 0)
                log.write("resumed", step=snapshot.counts["step"] if snapshot else 0)
            else:
                for note in filter(None, (*self.base.notes, measured)):
                    log.write("note", says=note)
            parts = self.dataset.parts
            for event in train_adapter(
                self.base.decoder,
                self.adapter,
                parts["train"],
                parts["validation"],
                self.sheet.train,
                resume=snapshot,
                stop=stop,
            ):
                self._keep(run, event, log)
                if on_event:
                    on_event(event)
            events = read_log(run.log)
            if events.of("step"):
                save_picture(events, f"{run.path.name}: {self.sheet.base.model}", run.curve)
        return run

    def _keep(self, run: RunFolder, event: TrainEvent, log: LogWriter) -> None:
        """Write an event where it belongs."""
        from foldkit.adapters import save_adapter
        from foldkit.training import Checked, Due, write_checkpoint

        if isinstance(event, Due):
            write_checkpoint(run.checkpoints, event.snapshot(), self.made_from, self.sheet.train.keep)
            return
        log.write(_EVENT_NAMES[type(event).__name__], **dataclasses.asdict(event))
        if isinstance(event, Checked) and event.best:
            save_adapter(run.adapter, self.adapter, self.header)


@contextlib.contextmanager
def _told(run: RunFolder, log: LogWriter) -> Iterator[None]:
    """Write a failure into the log, and say of a place that cannot be written what is whole."""
    try:
        yield
    except BaseException as error:
        with contextlib.suppress(OSError):
            log.write("failed", reason=str(error) or type(error).__name__)
        if isinstance(error, OSError):
            todo = f"make room or give rights, then foldkit train --resume {run.path.name}"
            what = f"could not be written ({error.strerror}); what was written before is whole"
            raise FoldKitError(f"{error.filename or run.path}: {what}; {todo}") from None
        raise


def _write_sheet(sheet: Sheet, run: RunFolder) -> None:
    folder = os.path.relpath(sheet.folder.resolve(), run.path.resolve())
    values = {"folder": Path(folder).as_posix(), **sheet.as_mapping()}
    write_aside(run.sheet, json.dumps(values, indent=2, ensure_ascii=False) + "\n")
