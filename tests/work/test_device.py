"""Where a base is computed: which device is chosen, and all that is done on one that is not the processor."""

from __future__ import annotations

import json
import subprocess
import sys
from pathlib import Path

import pytest
import torch

import foldkit
from foldkit.formats import UsageError
from foldkit.models import chosen_device

PROGRAM = "from tests import stand_in; from tests.work import on_device; on_device.main()"


def test_everything_is_done_on_another_device(work_folder: Path) -> None:
    """A stand-in that refuses to be mixed with the processor gives what that gives; mixed, it says so: the control.

    Gradients to 1e-9 and equal tokens in float64; losses after a few steps in float32 to 1e-5, for Adam turns rounding
    into more than that later. A training that was stopped and resumed there ends with the same bytes.
    """
    words = [sys.executable, "-c", PROGRAM, str(work_folder)]
    done = subprocess.run(words, capture_output=True, text=True, check=False, cwd=Path(__file__).parents[2])
    assert done.returncode == 0, done.stderr
    found = json.loads(done.stdout.splitlines()[-1])
    assert found["mixed"] == "aten::add: tensors on two devices"
    assert len(found["gradients"]) == 7
    assert max(found["gradients"].values()) < 1e-9, found["gradients"]
    here, there = found["answers"]
    assert here == there
    here, there = found["work"]
    assert [here["device"], there["device"]] == [["cpu", "cpu"], ["aside", "aside"]]
    assert [note[:13] for note in here["said"]] == ["6 rows choose"]
    assert there["said"] == [
        *here["said"],
        "computes on a GPU (aside): base.device=cpu would leave it alone",
        "products in bfloat16 take 0.5 times as long as in float32 on this aside: "
        "base.compute=bfloat16 rounds more, and may be faster",
    ]
    for name in ("losses", "score"):
        assert there[name] == pytest.approx(here[name], rel=1e-5)
    for name in ("answers", "choice"):
        assert there[name] == here[name]
    assert here["resumed"]
    assert there["resumed"]
    # Memory is the device's own, the parts that follow from shapes are those of the processor.
    assert there["peak"] == 300_000_000
    assert there["free"] == 10**10
    assert there["parts"][:3] == here["parts"][:3]


def test_the_device_that_is_chosen(monkeypatch: pytest.MonkeyPatch, work_folder: Path) -> None:
    """The processor where PyTorch finds no GPU, which is then refused by name; of several one for each process."""
    monkeypatch.setattr(torch.cuda, "is_available", lambda: False)
    assert chosen_device("auto") == chosen_device("cpu") == torch.device("cpu")
    with pytest.raises(UsageError, match=r"\[base\].*device.*'cuda'.*set it to cpu"):
        foldkit.train(foldkit.read_sheet(work_folder / "fold.toml", ["base.device=cuda"]))
    assert not (work_folder / "runs").exists()
    with pytest.raises(UsageError, match="device"):
        foldkit.read_sheet(work_folder / "fold.toml", ["base.device=gpu"])
    monkeypatch.setattr(torch.cuda, "is_available", lambda: True)
    monkeypatch.setattr(torch.cuda, "device_count", lambda: 2)
    for rank in (0, 1):
        monkeypatch.setenv("LOCAL_RANK", str(rank))
        assert chosen_device("auto") == chosen_device("cuda") == torch.device("cuda", rank)
    monkeypatch.setenv("LOCAL_WORLD_SIZE", "3")
    with pytest.raises(UsageError, match="at most its 2 GPUs, found 3"):
        chosen_device("auto")
    assert chosen_device("cpu") == torch.device("cpu")
