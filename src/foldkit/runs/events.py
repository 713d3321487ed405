"""The events among the lines of a log: whatever else a program or a hand wrote there is passed over."""

from __future__ import annotations

from collections.abc import Iterable, Iterator
from typing import Any

from foldkit.formats.jsonl import readable_objects

_KINDS: dict[str, tuple[type, ...]] = {
    **dict.fromkeys(("step", "n_steps", "n_train", "best_step"), (int,)),
    "seconds": (int, float),
    **dict.fromkeys(("validation_loss", "best_validation_loss"), (int, float, type(None))),
}


def readable_events(lines: Iterable[bytes]) -> Iterator[dict[str, Any]]:
    """Yield the objects among lines whose steps are whole numbers and whose figures are numbers, a loss null too."""
    for event in readable_objects(lines):
        if all(type(event[key]) in kinds for key, kinds in _KINDS.items() if key in event):
            yield event
