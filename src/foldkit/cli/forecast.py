"""`foldkit forecast`: what a training will take, before it starts."""

from __future__ import annotations

import sys
from pathlib import Path
from typing import TYPE_CHECKING

import click

from .common import built_with_count, open_to_build, out, sheet_options, show_table, shown_work

if TYPE_CHECKING:
    from foldkit.training import Duration, Forecast

# Validations that take this share of a training are spoken of.
_MUCH = 0.25


@click.command(epilog="Example: foldkit forecast --set base.weights=stored --set train.micro_batch=auto")
@sheet_options
def forecast(sheet_file: Path, changes: tuple[str, ...]) -> None:
    """Say what a training will take: tokens, steps, memory, time. The exit code is 1 where it does not fit."""
    from foldkit.work import faster_compute
    from foldkit.work import forecast as forecast_of

    sheet = open_to_build(sheet_file, changes)
    built_with_count(sheet)
    with shown_work("measure a few steps"):
        found = forecast_of(sheet)
    _show_counts(found)
    _show_memory(found)
    if not found.fits or not found.duration:
        _show_changes(found)
        sys.exit(1)
    _show_time(found, found.duration)
    if hint := faster_compute(sheet):
        out().print(hint)


def _show_counts(found: Forecast) -> None:
    total = found.n_trainable + found.n_base
    out().print(
        f"{found.n_trainable:,} trainable numbers, {found.n_trainable / total:.1%} of {total:,} in all\n"
        f"{found.n_steps:,} steps, {found.n_tokens:,} tokens, {found.n_learned:,} of them learned; "
        f"{found.micro_batch} examples at once"
    )


def _show_memory(found: Forecast) -> None:
    memory = found.memory
    says = {
        "weights": "of the base, as they are held",
        "adapter": "and its gradient, where it stands beside activations",
        "optimiser": "its moments, and the average where one is kept",
        "activations": "kept for the way back by the largest pass",
        "logits": "a chunk of them, and the stream before them",
        "scratch": "what stands for a moment",
        "overhead": "gaps that the allocator leaves, buffers of libraries"
        + (" (measured)" if found.duration else " (a guess)"),
    }
    lines = [(name, _megabytes(getattr(memory, name)), text) for name, text in says.items()]
    lines.append(("peak", _megabytes(memory.peak), f"of {_megabytes(found.free_bytes)} free"))
    if found.held_bytes:
        told = "with the program itself, as a training tells it"
        lines.append(("in all", _megabytes(memory.peak + found.held_bytes), told))
    show_table(out(), ("memory", "MB", ""), lines)


def _show_time(found: Forecast, takes: Duration) -> None:
    from foldkit.runs import clock

    rate = found.n_tokens / found.n_steps / takes.step
    out().print(
        f"a step about {takes.step:.2f} s ({rate:,.0f} tokens/s), the first validation after "
        f"{clock(takes.first_check)}, all of it about {clock(takes.total)}"
    )
    if takes.reference:
        out().print(f"the reference is found first, in about {clock(takes.reference)}")
    if takes.check_share >= _MUCH:
        todo = "fewer train.validations, or a smaller split.validation, take less"
        out().print(f"validations are {takes.check_share:.0%} of that: {todo}")
    if takes.last_step < found.n_steps:
        out().print(f"minutes end it at about step {takes.last_step:,} of {found.n_steps:,}")


def _show_changes(found: Forecast) -> None:
    console = out()
    console.print("! it does not fit; what takes less, the least harm first, each with all before it:")
    for change in found.changes:
        fits = "fits" if change.peak <= found.safe_bytes else "not yet"
        console.print(f"  --set {change.setting}: {_megabytes(change.peak)} MB, {fits}; costs {change.costs}")
    console.print("  then a smaller base, or rows of fewer tokens")


def _megabytes(n_bytes: float) -> str:
    return f"{n_bytes / 1e6:,.0f}"
