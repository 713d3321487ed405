"""`foldkit score` for automation, before a training, and by hand."""

from __future__ import annotations

import json
import os
import sys
from pathlib import Path

import pandas as pd
import pexpect
import pytest

import foldkit

from ..conftest import PATIENCE
from .test_cli import call

SHOTS = 'score.contender=[{name="with shots", shots=2}]'


@pytest.fixture
def trained_folder(work_folder: Path) -> Path:
    """Return a folder with one short run."""
    foldkit.train(foldkit.read_sheet(work_folder / "fold.toml", ["train.epochs=1", "train.validations=1"]))
    return work_folder


def test_a_figure_under_its_limit_ends_with_code_1(trained_folder: Path) -> None:
    """The figure and the limit are told; where less is better, over it; a measure that is not scored is refused."""
    good = call("score", "--fail-under", "exact=0", "--rows", "rows.parquet", cwd=trained_folder)
    assert good.returncode == 0, good.stderr
    table = pd.read_parquet(trained_folder / "rows.parquet")
    assert set(table.contender) == {"base", "adapter"}
    over = call("score", "--fail-under", "loss=0.01", cwd=trained_folder)
    assert over.returncode == 1
    assert "loss of adapter is " in over.stderr
    assert "over 0.01" in over.stderr
    for wrong in ("exact=high", "fields=0.5"):
        refused = call("score", "--fail-under", wrong, cwd=trained_folder)
        assert (refused.returncode, "MEASURE=NUMBER, of loss, exact" in refused.stderr) == (2, True)


def test_before_there_is_a_run_base_and_shots_are_scored(work_folder: Path) -> None:
    """Without any run by itself; later with --before; with a contender twice it is refused."""
    first = call("score", "--set", SHOTS, cwd=work_folder)
    assert first.returncode == 0, first.stderr
    assert "Asking better does" in first.stdout
    assert (work_folder / "before" / "scorecard.json").exists()
    elsewhere = "".join(json.dumps({"row": row, "answer": "west"}) + "\n" for row in range(1, 41))
    (work_folder / "made.jsonl").write_text(elsewhere)
    made = ("--set", 'score.contender=[{name="made", answers="made.jsonl"}]')
    lost = call("score", *made, "--fail-under", "loss=1", cwd=work_folder)
    assert (lost.returncode, "loss could not be taken of made" in lost.stderr) == (1, True)
    both = call("score", "--before", "run-001", cwd=work_folder)
    assert (both.returncode, "--before" in both.stderr) == (2, True)


def test_picks_are_made_blind_and_gone_on_with(trained_folder: Path) -> None:
    """Two picks, a stop, the rest; what stands in the file by hand is passed over; the share has its interval."""
    early = call("score", "--pick", cwd=trained_folder)
    assert (early.returncode, "foldkit score run-001" in early.stderr) == (1, True)
    assert call("score", cwd=trained_folder).returncode == 0

    def picking(*keys: str) -> str:
        words = ["-m", "foldkit", "score", "--pick"]
        view = pexpect.spawn(
            sys.executable, words, cwd=trained_folder, encoding="utf-8", timeout=PATIENCE, env=os.environ
        )
        seen = ""
        for key in keys:
            view.expect("q stop")
            seen += view.before
            view.send(key)
        view.expect(pexpect.EOF)
        return " ".join((seen + str(view.before)).split())  # words go on in the next line

    first = picking(*"12q")
    assert "pair 1 of 8" in first
    assert "2 of 8 pairs picked: adapter won" in first
    assert "base" not in first.partition("pairs picked")[0]
    with (trained_folder / "runs" / "run-001" / "picks.jsonl").open("a") as file:
        file.write('{"row": 1}\n{"row": [2], "pick": ["left"], "left": 0}\n{"row": 3, "pick": "third"}\n')
    second = picking(*"101212")
    assert "pair 3 of 8" in second
    assert "pair 1 of 8" not in second
    assert "8 of 8 pairs picked" in second
    assert "of those decided" in second
    assert "they are rows of test" in second
    lines = (trained_folder / "runs" / "run-001" / "picked_pairs.jsonl").read_text().splitlines()
    assert len(lines) == 7
    assert {"question", "chosen", "rejected", "row"} == json.loads(lines[0]).keys()
