"""Being asked to end a training, by Ctrl-C, by its starter, by a terminal that goes: first noted, then as usual."""

from __future__ import annotations

import contextlib
import math
import os
import signal
import socket
import threading
import time
from collections.abc import Callable, Iterator, Sequence
from types import FrameType
from typing import TYPE_CHECKING

import click

if TYPE_CHECKING:
    from rich.console import Console

# How long Python has to end by itself once it was asked twice.
_SECONDS_TO_END = 2.0
# Two in less than this are one: some launchers send on what the terminal has sent to all.
_SECONDS_BETWEEN = 0.5


class _Asked:
    """How often it was asked."""

    def __init__(self) -> None:
        self.n, self._last = 0, -math.inf

    def count(self) -> int:
        """Count a signal that has come in; return how often it was asked."""
        now = time.monotonic()
        self.n += now - self._last > _SECONDS_BETWEEN
        self._last = now
        return self.n


def ending_signals() -> tuple[int, ...]:
    """Return by which signals others ask a training to end, but for those that are ignored, as `nohup` has it."""
    known = [getattr(signal, name) for name in ("SIGTERM", "SIGHUP") if hasattr(signal, name)]
    return tuple(number for number in known if signal.getsignal(number) is not signal.SIG_IGN)


@contextlib.contextmanager
def heeded(handler: Callable[[int, FrameType | None], None] | signal.Handlers, *signals: int) -> Iterator[None]:
    """Handle these signals so for the length of a `with` block."""
    before = {number: signal.signal(number, handler) for number in signals}
    try:
        yield
    finally:
        for number, own in before.items():
            signal.signal(number, own)


@contextlib.contextmanager
def first_interrupt(console: Console, *signals: int) -> Iterator[Callable[[], bool]]:
    """Yield a function that says whether one of the signals has come in; the second time it interrupts as usual.

    Python hears of none while it waits for another process of a training, so a thread listens beside it, and ends this
    one where the second does not come through.
    """
    asked = _Asked()

    def note(*_: object) -> None:
        is_first = asked.n == 0
        if asked.count() > 1:
            raise KeyboardInterrupt
        if is_first:
            console.print("finishing this step and saving; Ctrl-C again stops at once")

    heard, told = socket.socketpair()
    told.setblocking(False)
    before = signal.set_wakeup_fd(told.fileno())
    threading.Thread(target=_end_at_second, args=(heard, console, signals), daemon=True).start()
    try:
        with heeded(note, *signals):
            yield lambda: asked.n > 0
    finally:
        signal.set_wakeup_fd(before)
        told.close()


def _end_at_second(heard: socket.socket, console: Console, signals: Sequence[int]) -> None:
    """Count the signals whose numbers come in; end this process a while after the second, or at the third."""
    asked = _Asked()
    with heard:
        while asked.n < 2:
            number = heard.recv(1)
            if not number:
                return
            if number[0] in signals:
                asked.count()
        heard.settimeout(_SECONDS_TO_END)
        with contextlib.suppress(TimeoutError):
            if not heard.recv(1):
                return
    if console.is_terminal:
        console.show_cursor()
        click.echo(err=True)  # the bar's line stands as it was
    click.echo("foldkit: interrupted", err=True)
    os._exit(130)
