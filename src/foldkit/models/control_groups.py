"""The control groups that this process is in, where the system has them: a container's limits stand there."""

from __future__ import annotations

from collections.abc import Iterator
from pathlib import Path

# The groups of this process, a line each, and where their files stand: cgroups(7).
OWN, ROOT = Path("/proc/self/cgroup"), Path("/sys/fs/cgroup")


def control_groups(kind: str, own: Path = OWN, root: Path = ROOT) -> Iterator[tuple[Path, bool]]:
    """Yield the folders that may hold a limit of a kind ("memory", "cpu"), and whether they are of the second version.

    A limit of any group above counts too, so theirs are among them.
    """
    for line in own.read_text().splitlines() if own.exists() else ():
        _, kinds, path = line.split(":", 2)
        if not kinds or kind in kinds.split(","):
            top = root / kind if kinds else root
            folder = top / path.lstrip("/")
            # From inside a container the path may be the host's, and its own group stands at the top.
            for one in (folder, *folder.parents):
                if one.is_relative_to(top):
                    yield one, not kinds
