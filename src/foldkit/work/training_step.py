"""The training of a sheet: a run folder with sheet, log, checkpoints, best adapter and curve; and going on with one."""

from __future__ import annotations

import contextlib
import dataclasses
import json
import os
from collections.abc import Callable, Iterator, Sequence
from contextlib import AbstractContextManager
from pathlib import Path
from typing import TYPE_CHECKING, Any

from foldkit.formats import FoldKitError, locked, write_aside
from foldkit.models.settings import COMPUTES, DEVICES
from foldkit.models.threads import giving_way
from foldkit.runs import LogWriter, RunFolder, check_name, cut_log, new_run, read_log, run_at

from .drift import drift_notes
from .forecast_step import choose_micro_batch, faster_compute
from .parts import Parts
from .reference import reference_of
from .sheet import Sheet, sheet_from_mapping
from .steps import build
from .unlearnable import unlearnable_notes

if TYPE_CHECKING:
    from foldkit.training import Snapshot, TrainEvent
    from foldkit.training.team import Team

OnEvent = Callable[["TrainEvent"], None]
_EVENT_NAMES = {
    "Noted": "note",
    "Started": "started",
    "Stepped": "step",
    "Skipped": "skipped",
    "Checked": "validation",
    "Finished": "finished",
}


def _never() -> bool:
    return False


@giving_way()
def train(
    sheet: Sheet, name: str = "", on_event: OnEvent | None = None, *, stop: Callable[[], bool] = _never
) -> RunFolder:
    """Train an adapter into a new run folder under `runs` beside the sheet.

    The folder gets the sheet, the log as it happens, checkpoints, the adapter whenever validation improves, and the
    curve. `stop` is asked after every step and every pass of a validation, as is the run's folder for a request to
    stop; a training that was stopped, or killed, goes on with `resume`. Where a launcher started several processes,
    each calls this: the first one writes and hears of events, and all of them return the run. Raises FoldKitError when
    another process has ended, and StoppedError where `stop` says so while a reference is found, before there is a run.
    """
    with _joined(sheet) as team:
        if team.rank:
            return _take_part(sheet, None, stop, team)
        check_name(sheet.path("runs"), name)  # before the work of opening
        parts, notes = _opened(sheet, team, stop, on_event)
        run = new_run(sheet.path("runs"), name)
        team.text_of_first(run.path.name)
        with locked(run.lock):
            _write_sheet(parts.sheet, run)
            return _go(parts, run, on_event, stop, team, notes)


@giving_way()
def resume(
    run: RunFolder | str | Path, on_event: OnEvent | None = None, *, stop: Callable[[], bool] = _never
) -> RunFolder:
    """Go on with a run from its last checkpoint, by the run's own sheet, as if it had never stopped.

    Events that the log holds of later steps are cut off. Each of several processes calls this, as `train`. Raises
    FoldKitError while another training is at work in the run, and InputError when base, data or the number of processes
    are not those it began with.
    """
    run = run_at(run)
    sheet = sheet_of_run(run)
    with _joined(sheet) as team:
        if team.rank:
            return _take_part(sheet, run, stop, team)
        with locked(run.lock):
            parts, notes = _opened(sheet, team, stop, on_event)
            return _go(parts, run, on_event, stop, team, notes)


def _take_part(sheet: Sheet, resumed: RunFolder | None, stop: Callable[[], bool], team: Team) -> RunFolder:
    """Make this process's part of a training, or of one that goes on, and write nothing: all but the first do so."""
    parts, _ = _opened(sheet, team, stop, None)
    run = resumed or RunFolder(sheet.path("runs") / team.text_of_first())
    snapshot = _last_snapshot(parts, resumed, team) if resumed else None
    for _ in _events(parts, snapshot, stop, team):
        pass
    return run


def _joined(sheet: Sheet) -> AbstractContextManager[Team]:
    """Join the other processes of a training, on the device of each, for the length of a `with` block."""
    from foldkit.models import chosen_device
    from foldkit.training.team import joined_team

    return joined_team(chosen_device(sheet.base.device))


def _opened(sheet: Sheet, team: Team, stop: Callable[[], bool], on_event: OnEvent | None) -> tuple[Parts, list[str]]:
    """Open the parts of a sheet, what it leaves open chosen alike in all processes, and say what was chosen."""
    from foldkit.models import chosen_device
    from foldkit.models.sharding import shard
    from foldkit.training.free_memory import free_bytes
    from foldkit.training.memory import forget_peak
    from foldkit.training.team import first_here

    sheet, notes = _where_and_in_what(sheet, team)
    device = chosen_device(sheet.base.device)
    free = free_bytes(device)
    with first_here(team):
        build(sheet)
    forget_peak(device)
    divided = sheet.base.sharded and team.size > 1
    parts = Parts(sheet, divided=divided)
    notes += choose_micro_batch(parts, free, team)
    notes += [] if team.rank else unlearnable_notes(parts)
    parts.reference = reference_of(parts, team, stop, on_event or (lambda _: None))
    if divided:  # last, for from here on a layer is used by all processes together
        shard(parts.base.decoder, parts.adapter.parameters, device)
    return parts, notes


def _where_and_in_what(sheet: Sheet, team: Team) -> tuple[Sheet, list[str]]:
    """Return the sheet with the device and the dtype that the first process chose, and what is to be said of them."""
    from foldkit.models import chosen_compute, chosen_device
    from foldkit.models.compute import narrow_said, narrow_times

    notes, device = [], chosen_device(sheet.base.device)
    compute = chosen_compute(sheet.base.compute, device)
    if sheet.base.device == "auto" and device.type != "cpu":
        notes.append(f"computes on a GPU ({device.type}): base.device=cpu would leave it alone")
    if device.type != "cpu" and (faster := faster_compute(sheet)):
        notes.append(faster)
    if sheet.base.compute == "auto":
        notes.append(f"computes in {compute.name}: {compute.reason}")
    if sheet.base.compute == "bfloat16" and (times := narrow_times(device)) > 1:
        notes.append(f"computes in bfloat16, as asked for, but {narrow_said(times, device)}: float32 would be faster")
    where, what = team.of_first(DEVICES.index(device.type), COMPUTES.index(compute.name))
    own = dataclasses.replace(sheet.base, device=DEVICES[int(where)], compute=COMPUTES[int(what)])
    return dataclasses.replace(sheet, base=own), notes


def sheet_of_run(run: RunFolder) -> Sheet:
    """Return the sheet of a run, every setting as it was resolved."""
    values = run.read_sheet()
    return sheet_from_mapping(values, run.path / values.pop("folder"), str(run.sheet))


def _go(
    parts: Parts,
    run: RunFolder,
    on_event: OnEvent | None,
    stop: Callable[[], bool],
    team: Team,
    notes: Sequence[str],
) -> RunFolder:
    """Train from the last checkpoint of the run, or from the start where there is none."""
    from foldkit.curves import save_picture
    from foldkit.models.sealed import clear_unfinished
    from foldkit.training.pair_notes import pair_notes

    for folder in (run.path, run.checkpoints):
        clear_unfinished(folder)
    snapshot = _last_snapshot(parts, run, team)
    log = LogWriter(run.log)

    def hear(event: TrainEvent) -> None:
        _keep(parts, run, event, log, team)
        if on_event:
            on_event(event)

    run.stop.unlink(missing_ok=True)
    with _told(run, log):
        if run.log.exists():
            step, checked_step = (snapshot.counts[name] if snapshot else 0 for name in ("step", "checked_step"))
            cut_log(run.log, step, checked_step)
            log.write("resumed", step=step)
        _note(run, [*parts.notes, *notes], hear)
        for event in _events(parts, snapshot, lambda: stop() or run.stop.exists(), team):
            hear(event)
        written = read_log(run.log)
        if written.of("finished")[-1]["reason"] != "stopped":
            _note(run, [*pair_notes(written.of("validation")), *drift_notes(parts, run, team.size)], hear)
        if written.of("step"):
            save_picture([run], run.curve)
    run.stop.unlink(missing_ok=True)
    return run


def _note(run: RunFolder, notes: Sequence[str], hear: OnEvent) -> None:
    """Say of a run what its log has not yet."""
    from foldkit.training import Noted

    told = {note["says"] for note in read_log(run.log).of("note")} if notes and run.log.exists() else set()
    for note in notes:
        if note not in told:
            hear(Noted(note))


def _events(parts: Parts, snapshot: Snapshot | None, stop: Callable[[], bool], team: Team) -> Iterator[TrainEvent]:
    from foldkit.training import train_adapter

    rows = parts.dataset.parts
    return train_adapter(
        parts.base.decoder,
        parts.adapter,
        rows["train"],
        rows["validation"],
        parts.sheet.train,
        resume=snapshot,
        stop=stop,
        team=team,
        reference=parts.reference,
    )


def _made_from(parts: Parts, team: Team) -> dict[str, Any]:
    return parts.made_from | {"processes": team.size}


def _last_snapshot(parts: Parts, run: RunFolder, team: Team) -> Snapshot | None:
    from foldkit.training import read_checkpoint, saved_checkpoints

    found = saved_checkpoints(run.checkpoints)
    return read_checkpoint(found[-1], _made_from(parts, team)) if found else None


def _keep(parts: Parts, run: RunFolder, event: TrainEvent, log: LogWriter, team: Team) -> None:
    """Write an event where it belongs."""
    from foldkit.adapters import save_adapter
    from foldkit.training import Checked, Checking, Due, write_checkpoint

    if isinstance(event, Due):
        write_checkpoint(run.checkpoints, event.snapshot(copy=False), _made_from(parts, team), parts.sheet.train.keep)
        return
    if isinstance(event, Checking):  # it goes by
        return
    values = dataclasses.asdict(event)
    figures = values.pop("figures", {})
    log.write(_EVENT_NAMES[type(event).__name__], **values, **figures)
    if isinstance(event, Checked) and event.best:
        save_adapter(run.adapter, parts.adapter, parts.header)


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
