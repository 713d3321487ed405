"""The processes of one training: which of them this is, sums over all of them, and what the first one says.

Through PyTorch's distributed engine, as it is told by the variables RANK, LOCAL_RANK, WORLD_SIZE, LOCAL_WORLD_SIZE,
MASTER_ADDR and MASTER_PORT that a launcher sets.
"""

from __future__ import annotations

import contextlib
import functools
import itertools
import math
import os
import re
import socket
from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from typing import Any, TypeVar

import torch
import torch.distributed
from torch import Tensor

from foldkit.formats import FoldKitError, LostProcessError, UsageError
from foldkit.models.device import CPU

Shared = TypeVar("Shared")


@dataclass(frozen=True)
class Team:
    """The place of this process, `rank` among `size`; alone, nothing is sent anywhere."""

    rank: int = 0
    size: int = 1

    def share(self, passes: Sequence[Shared]) -> list[tuple[Shared, bool]]:
        """Return the passes that this process makes, as many as every other, and whether each counts.

        Where they do not come out even, the last one is a repetition that counts nothing: processes that hold parts of
        one base must all go through its layers as often.
        """
        n_rounds = math.ceil(len(passes) / self.size)
        places = [self.rank + self.size * index for index in range(n_rounds)]
        return [(passes[place % len(passes)], place < len(passes)) for place in places]

    def meet(self, times: int = 1) -> None:
        """Wait, so many times, until all processes are here. Raises LostProcessError where one has ended."""
        for _ in range(times if self.size > 1 else 0):
            with _sent():
                torch.distributed.barrier()

    def add_up(self, tensors: Sequence[Tensor]) -> None:
        """Put the sum over all processes in the place of each tensor. Raises LostProcessError where one has ended."""
        if self.size == 1:
            return
        flat = torch.cat([tensor.flatten() for tensor in tensors])
        with _sent():
            torch.distributed.all_reduce(flat)
        for tensor, total in zip(tensors, flat.split_with_sizes([tensor.numel() for tensor in tensors]), strict=True):
            tensor.copy_(total.view_as(tensor))

    def totals(self, *values: float) -> list[float]:
        """Return the sum of each value over all processes."""
        found = torch.tensor(values, dtype=torch.float64)
        self.add_up([found])
        return [float(value) for value in found]

    def of_first(self, *values: float) -> list[float]:
        """Return the first process's values."""
        if self.size == 1:
            return list(values)
        found = torch.tensor(values, dtype=torch.float64)
        with _sent():
            torch.distributed.broadcast(found, 0)
        return [float(value) for value in found]

    def text_of_first(self, text: str = "") -> str:
        """Return the first process's text; the others give none."""
        (n_bytes,) = self.of_first(len(text.encode()))
        found = self.of_first(*text.encode().ljust(int(n_bytes)))
        return bytes(map(int, found)).decode()

    def of_all(self, value: Tensor) -> list[Tensor]:
        """Return a tensor of every process, in their order."""
        if self.size == 1:
            return [value]
        found = [torch.empty_like(value) for _ in range(self.size)]
        with _sent():
            torch.distributed.all_gather(found, value)
        return found


ALONE = Team()
_TRAININGS = itertools.count(1)


@contextlib.contextmanager
def _sent() -> Iterator[None]:
    try:
        yield
    except RuntimeError as error:
        raise _lost(error) from None


@contextlib.contextmanager
def sent_within() -> Iterator[None]:
    """Raise LostProcessError where the layers of a divided base, which send by themselves, find that one has ended."""
    try:
        yield
    except RuntimeError as error:
        if isinstance(error, torch.distributed.DistError) or "gloo" in str(error):
            raise _lost(error) from None
        raise


def _lost(error: RuntimeError) -> LostProcessError:
    return LostProcessError(f"another process of this training has ended ({_in_short(error)})")


def _in_short(error: RuntimeError) -> str:
    """Return what the engine says, without the line of its source that says it, and its advice."""
    said = re.sub(r"^\[\S+:\d+\] ", "", str(error).strip().splitlines()[0])
    return said.partition(". This is")[0]


@contextlib.contextmanager
def joined_team(device: torch.device = CPU) -> Iterator[Team]:
    """Join the other processes that a launcher started, for the length of a `with` block; alone without a launcher.

    What is computed on GPUs is added up between them, by NCCL, all else by gloo. Raises UsageError where a variable is
    missing or no number, and FoldKitError where they cannot reach one another.
    """
    size = _launched()
    if size == 1:
        yield ALONE
        return
    if device.type == "cuda":
        torch.cuda.set_device(device)
    try:
        store, rank = _meeting_place()
        backends = "cpu:gloo,cuda:nccl" if device.type == "cuda" else "gloo"
        torch.distributed.init_process_group(backends, store=store, rank=rank, world_size=size)
    except RuntimeError as error:
        raise _unreached(error) from None
    try:
        team = Team(rank, size)
        yield team
        team.meet()  # none leaves while another still listens
    finally:
        torch.distributed.destroy_process_group()


def _launched() -> int:
    """Return how many processes a launcher started, 1 without one. Raises UsageError where it did not say all."""
    told = {name: os.environ.get(name, "") for name in ("WORLD_SIZE", "RANK", "MASTER_ADDR", "MASTER_PORT")}
    size, rank, port = told["WORLD_SIZE"], told["RANK"], told["MASTER_PORT"]
    if size in ("", "1"):
        return 1
    todo = "unset WORLD_SIZE to train in one process, or start them by torchrun"
    if missing := [name for name, value in told.items() if not value]:
        raise UsageError("environment", "WORLD_SIZE", f"{', '.join(missing)} beside it", size, todo)
    if not (size.isdecimal() and rank.isdecimal() and port.isdecimal() and int(rank) < int(size)):
        found = f"{rank} of {size}, {port}"
        raise UsageError(
            "environment", "RANK of WORLD_SIZE, MASTER_PORT", "a number below another and a port", found, todo
        )
    return int(size)


@functools.cache
def _store() -> tuple[Any, int]:
    """Return where the processes leave word for one another, and the rank of this one."""
    from torch.distributed.rendezvous import rendezvous

    store, rank, _ = next(rendezvous("env://"))
    return store, rank


def _meeting_place() -> tuple[Any, int]:
    """Return a place of its own for the next training in the store that all trainings of a process share, and the rank.

    Were the store opened anew, a process that is ahead would find the last training's still open, and wait in it for
    ever.
    """
    from torch.distributed import PrefixStore  # type: ignore[attr-defined]

    store, rank = _store()
    return PrefixStore(f"training-{next(_TRAININGS)}", store), rank


def _unreached(error: RuntimeError) -> FoldKitError:
    """Return what to say where processes cannot reach one another: by which networks they could."""
    import psutil

    found = [
        f"{name} ({one.address})"
        for name, addresses in psutil.net_if_addrs().items()
        for one in addresses
        if one.family == socket.AF_INET
    ]
    todo = f"name the network between their machines in GLOO_SOCKET_IFNAME; here one of: {', '.join(found)}"
    return FoldKitError(f"the processes of this training cannot reach one another ({_in_short(error)}); {todo}")


@contextlib.contextmanager
def first_here(team: Team) -> Iterator[None]:
    """Let the first process go through the `with` block before the first on each machine, and these before the others.

    Machines may see the same folder, or each its own.
    """
    turn = 0 if team.rank == 0 else 1 if os.environ.get("LOCAL_RANK", "0") == "0" else 2
    team.meet(turn)
    yield
    team.meet(2 - turn)
