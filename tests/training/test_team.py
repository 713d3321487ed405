"""Several processes are one: the same gradient, the same figures."""

from __future__ import annotations

import itertools
from pathlib import Path

import pytest
import safetensors.torch
import torch

from foldkit.formats import FoldKitError, LostProcessError, UsageError
from foldkit.training import TrainSettings, train_adapter
from foldkit.training.team import ALONE, Team, first_here, joined_team

from ..conftest import in_two_processes, ten_examples
from .team_worker import HOWS, found_by
from .test_training import with_adapter

ROOT = Path(__file__).parents[2]


class Deaf(Team):
    """A team whose processes hear nothing of one another."""

    def add_up(self, tensors: object) -> None:
        """Add nothing."""


class Left(Team):
    """A team whose other process has ended."""

    def of_all(self, value: torch.Tensor) -> list[torch.Tensor]:
        """Return this process's."""
        return [value]

    def add_up(self, tensors: object) -> None:
        """Find nobody."""
        raise LostProcessError("it has ended")


@pytest.mark.parametrize(("rank", "said"), [(0, "step 0 is kept: go on"), (1, "what the first one kept goes on")])
def test_only_the_first_process_says_that_it_kept_a_step(rank: int, said: str) -> None:
    """The others write nothing."""
    decoder, adapter = with_adapter()
    events = train_adapter(
        decoder, adapter, ten_examples(), ten_examples(), TrainSettings(micro_batch=4), team=Left(rank, 2)
    )
    with pytest.raises(LostProcessError, match=f"it has ended; {said} with --resume"):
        list(events)


def test_two_processes_have_the_gradient_of_one(tmp_path: Path) -> None:
    """Both hold it, and the figures, to 1e-9 in float64; one that does not hear the other differs: the control.

    With the base whole in each, or divided between them, its layers kept or computed again.
    """
    in_two_processes(["-m", "tests.training.team_worker", str(tmp_path)], ROOT)
    alone = found_by(ALONE)
    for how, rank in itertools.product(HOWS, ("0", "1")):
        found = safetensors.torch.load_file(tmp_path / f"{how}, {rank}.safetensors")
        assert found.keys() == alone.keys()
        for name, value in alone.items():
            torch.testing.assert_close(found[name], value, rtol=1e-9, atol=1e-12)
    deaf = found_by(Deaf(0, 2))
    assert not torch.allclose(deaf["0"], alone["0"], rtol=1e-3)


JOINED = """
import time, torch.distributed
from foldkit.training.team import joined_team

leave = torch.distributed.destroy_process_group
for _ in range(3):
    with joined_team() as team:
        assert team.totals(1.0) == [2.0]
        torch.distributed.destroy_process_group = lambda late=not team.rank: (time.sleep(0.5 * late), leave())
"""


def test_trainings_of_the_same_processes_follow_one_another(tmp_path: Path) -> None:
    """Where the second begins the next before the first has left the last: it waits for it in the next."""
    assert in_two_processes(["-c", JOINED], tmp_path) == ["", ""]


def test_the_first_on_each_machine_goes_before_the_others_there(monkeypatch: pytest.MonkeyPatch) -> None:
    """By how often each waits for all before its turn and after it, on two machines of two processes."""
    waited: list[int] = []
    monkeypatch.setattr(Team, "meet", lambda self, times=1: waited.append(times))
    for rank, turn in enumerate((0, 2, 1, 2)):
        monkeypatch.setenv("LOCAL_RANK", str(rank % 2))
        with first_here(Team(rank, 4)):
            assert waited.pop() == turn
        assert waited.pop() == 2 - turn


def test_processes_that_cannot_reach_one_another_are_told_how(monkeypatch: pytest.MonkeyPatch) -> None:
    """By a network that is not there: this machine's are named. Without a launcher: what it would have said."""
    monkeypatch.setenv("WORLD_SIZE", "2")
    with pytest.raises(UsageError, match="RANK, MASTER_ADDR, MASTER_PORT beside it, found '2'"), joined_team():
        pass
    for told in ({"WORLD_SIZE": "two"}, {"RANK": "2"}, {"MASTER_PORT": "none"}):
        monkeypatch.setenv("MASTER_ADDR", "127.0.0.1")
        for name, value in ({"WORLD_SIZE": "2", "RANK": "1", "MASTER_PORT": "9"} | told).items():
            monkeypatch.setenv(name, value)
        with pytest.raises(UsageError, match="a number below another and a port, found"), joined_team():
            pass
    monkeypatch.setenv("WORLD_SIZE", "")
    with joined_team() as team:
        assert team is ALONE
    store = torch.distributed.TCPStore("127.0.0.1", 0, is_master=True, wait_for_workers=False)
    told = {"MASTER_ADDR": "127.0.0.1", "MASTER_PORT": str(store.port), "WORLD_SIZE": "2", "RANK": "0"}
    for name, value in {**told, "TORCHELASTIC_USE_AGENT_STORE": "True", "GLOO_SOCKET_IFNAME": "none-such"}.items():
        monkeypatch.setenv(name, value)
    with pytest.raises(FoldKitError, match=r"in GLOO_SOCKET_IFNAME; here one of: .*\(127.0.0.1\)"), joined_team():
        pass
