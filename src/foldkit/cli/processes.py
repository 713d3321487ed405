"""The processes of one training on this machine: started together, and ended together."""

from __future__ import annotations

import os
import signal
import socket
import subprocess
import sys
import tempfile
import time
from collections.abc import Sequence
from pathlib import Path

import click

from foldkit.models.threads import usable_processors

from .interrupts import ending_signals, heeded

# How long the others may take to save and end once one has ended badly.
_SECONDS_TO_END = 60.0


def in_processes(words: Sequence[str], n_processes: int) -> int:
    """Run this command in so many processes, the first one on this terminal; return the exit code of the whole."""
    with tempfile.TemporaryDirectory() as folder:
        errors, shared = Path(folder), _shared(n_processes)
        running = [_start(words, rank, shared, errors) for rank in range(n_processes)]

        # All hear Ctrl-C by themselves; of a starter or a lost terminal this may hear alone. Each is told, for one that
        # has not yet begun ends at once, and the others would wait for it.
        def tell_all(number: int, _: object) -> None:
            for process in running:
                process.send_signal(number)

        with heeded(signal.SIG_IGN, signal.SIGINT), heeded(tell_all, *ending_signals()):
            codes = _codes(running)
        _tell(codes, errors)
    return next((code if code > 0 else 1 for code in codes if code), 0)


def _shared(n_processes: int) -> dict[str, str]:
    """Return what all processes are told."""
    with socket.socket() as free:
        free.bind(("127.0.0.1", 0))
        port = free.getsockname()[1]
    threads = max(1, usable_processors() // n_processes)
    told = {"WORLD_SIZE": n_processes, "LOCAL_WORLD_SIZE": n_processes, "MASTER_PORT": port, "OMP_NUM_THREADS": threads}
    # Between them they would take the address of this machine's name, which may be another's, or closed.
    own = {"MASTER_ADDR": "127.0.0.1", "GLOO_SOCKET_IFNAME": _own_interface()}
    return {**own, **{name: str(value) for name, value in told.items()}}


def _own_interface() -> str:
    """Return the name of the interface on which this machine reaches itself."""
    import psutil

    found = psutil.net_if_addrs().items()
    return next(name for name, addresses in found if any(one.address == "127.0.0.1" for one in addresses))


def _start(words: Sequence[str], rank: int, shared: dict[str, str], errors: Path) -> subprocess.Popen[bytes]:
    env = os.environ | shared | {"RANK": str(rank), "LOCAL_RANK": str(rank)}
    command = [sys.executable, "-m", "foldkit", *words]
    if rank == 0:
        return subprocess.Popen(command, env=env)
    with (errors / str(rank)).open("wb") as error:
        return subprocess.Popen(command, env=env, stdout=subprocess.DEVNULL, stderr=error)


def _codes(running: Sequence[subprocess.Popen[bytes]]) -> list[int]:
    """Return the exit codes once all have ended; those that do not follow one that failed are ended."""
    failed_at = None
    while any(process.poll() is None for process in running):
        time.sleep(0.05)
        if failed_at is None and any(process.returncode for process in running):
            failed_at = time.monotonic()
        if failed_at is not None and time.monotonic() - failed_at > _SECONDS_TO_END:
            for process in running:
                process.kill()
    return [int(process.returncode) for process in running]


def _tell(codes: Sequence[int], errors: Path) -> None:
    """Say which process ended by a signal, and what the others said that the first one cannot know."""
    for rank, code in enumerate(codes):
        if code < 0:
            name = signal.Signals(-code).name
            todo = f"what was saved goes on: foldkit train --resume --processes {len(codes)}"
            click.echo(f"foldkit: process {rank} of {len(codes)} was ended by {name}; {todo}", err=True)
        elif code > 0 and rank and codes[0] <= 0:
            said = (errors / str(rank)).read_text(encoding="utf-8", errors="replace").strip()
            click.echo(f"process {rank}: {said}", err=True)
