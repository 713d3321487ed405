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

# Seconds after which it is said that one has ended badly, where others have not followed it.
_SECONDS_TO_SAY = 5.0
# Seconds that these may take to save and end: they hear of it once they are through their passes of a step.
_SECONDS_TO_END = 900.0
# The exit code of one that ended because another had.
_LOST = 3


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
            codes = _codes(running, errors)
    return next((1 if code < 0 or code == _LOST else code for code in codes if code), 0)


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


def _codes(running: Sequence[subprocess.Popen[bytes]], errors: Path) -> list[int]:
    """Return the exit codes once all have ended, and say why those ended of which the first one says nothing.

    Where others go on for long after one has failed, that is said at once, and they are ended if they never follow.
    """
    ended: set[int] = set()
    failed_at = told = None
    while left := [process for process in running if process.poll() is None]:
        time.sleep(0.05)
        if failed_at is None and any(process.returncode for process in running):
            failed_at = time.monotonic()
        seconds = time.monotonic() - failed_at if failed_at is not None else 0.0
        if seconds > _SECONDS_TO_SAY and told is None:
            told = _tell([process.poll() for process in running], errors)
            if told or running[0].returncode:
                click.echo("waiting for the others to save and end; Ctrl-C twice ends them", err=True)
        if seconds > _SECONDS_TO_END:
            ended.update(process.pid for process in left)
            for process in left:
                process.kill()
    codes = [_LOST if process.pid in ended else int(process.returncode) for process in running]
    _tell([0 if rank in (told or ()) else code for rank, code in enumerate(codes)], errors)
    return codes


def _tell(codes: Sequence[int | None], errors: Path) -> list[int]:
    """Say which process ended by a signal, and what the others said of which the first one says nothing; return which.

    What all of them say the first one has said, or will; one that was asked to end (130) says nothing.
    """
    told, first = [], codes[0]
    first_tells = first is not None and first > 0 and first != _LOST
    for rank, code in enumerate(codes):
        if code is not None and code < 0:
            name = signal.Signals(-code).name
            todo = f"what was saved goes on: foldkit train --resume --processes {len(codes)}"
            click.echo(f"foldkit: process {rank} of {len(codes)} was ended by {name}; {todo}", err=True)
            told.append(rank)
        elif rank and code not in (None, 0, 130, _LOST) and not first_tells:
            said = (errors / str(rank)).read_text(encoding="utf-8", errors="replace").strip()
            click.echo(f"process {rank}: {said}", err=True)
            told.append(rank)
    return told
