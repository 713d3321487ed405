"""Ctrl-C in a training: the first is noted, the second ends it."""

from __future__ import annotations

import contextlib
import math
import os
import signal
import socket
import threading
import time
from collections.abc import Callable, Iterator
from typing import TYPE_CHECKING

import click

if TYPE_CHECKING:
    from rich.console import Console

# How long Python has to end by itself once it was asked twice.
_SECONDS_TO_END = 2.0
# Two in less than this are one: some launchers send on what the terminal has sent to all.
_SECONDS_BETWEEN = 0.5


class _Presses:
    """How often Ctrl-C was pressed."""

    def __init__(self) -> None:
        self.n, self._last = 0, -math.inf

    def count(self) -> int:
        """Count a signal that has come in; return how often it was pressed."""
        now = time.monotonic()
        self.n += now - self._last > _SECONDS_BETWEEN
        self._last = now
        return self.n


@contextlib.contextmanager
def first_interrupt(console: Console) -> Iterator[Callable[[], bool]]:
    """Yield a function that says whether Ctrl-C was pressed; the second time it interrupts as usual.

    Python hears of neither while it waits for another process of a training, so a thread listens beside it, and ends
    this one where the second does not come through.
    """
    presses = _Presses()

    def note(*_: object) -> None:
        is_first = presses.n == 0
        if presses.count() > 1:
            raise KeyboardInterrupt
        if is_first:
            console.print("finishing this step and saving; Ctrl-C again stops at once")

    heard, told = socket.socketpair()
    told.setblocking(False)
    before = signal.signal(signal.SIGINT, note), signal.set_wakeup_fd(told.fileno())
    threading.Thread(target=_end_at_second, args=(heard, console), daemon=True).start()
    try:
        yield lambda: presses.n > 0
    finally:
        signal.signal(signal.SIGINT, before[0])
        signal.set_wakeup_fd(before[1])
        told.close()


def _end_at_second(heard: socket.socket, console: Console) -> None:
    """Count the numbers of signals that come in; end this process a while after the second Ctrl-C, or at the third."""
    presses = _Presses()
    with heard:
        while presses.n < 2:
            number = heard.recv(1)
            if not number:
                return
            if number[0] == signal.SIGINT:
                presses.count()
        heard.settimeout(_SECONDS_TO_END)
        with contextlib.suppress(TimeoutError):
            if not heard.recv(1):
                return
    if console.is_terminal:
        console.show_cursor()
        click.echo(err=True)  # the bar's line stands as it was
    click.echo("foldkit: interrupted", err=True)
    os._exit(130)
