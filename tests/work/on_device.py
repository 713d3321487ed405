"""Everything that a base is used for, on the processor and on the stand-in for a GPU; a program of its own.

Prints one JSON object: for each thing that was done, what came of it on either.
"""

from __future__ import annotations

import dataclasses
import json
import sys
from collections import ChainMap
from pathlib import Path
from typing import Any

import torch
from torch import Tensor

import foldkit
from foldkit import curves
from foldkit.adapters import AdapterSettings, attach
from foldkit.answering import AnswerSettings
from foldkit.models import Sampling, compute, device, generate, open_base, settings
from foldkit.training import TrainSettings, objective_for, reference_values
from foldkit.training.stepping import Stepper
from foldkit.work import scorecard_files

from ..conftest import ten_examples
from ..stand_in import DEVICE, NAME
from ..training.test_preferences import pairs

CPU = torch.device("cpu")
# Weights, settings of the adapter and of the training; each value stands in one of them at least.
GRADIENTS: tuple[tuple[str, dict[str, Any], dict[str, Any]], ...] = (
    ("float32", {}, {}),
    ("float32", {"magnitude": True}, {"packing": False}),
    ("float32", {"dropout": 0.1}, {"recompute": True}),
    ("int8", {"full": ("embedding",)}, {"smoothing": 0.1}),
    ("nf4", {"start": "singular"}, {"noise": 5.0}),
    ("bfloat16", {}, {"objective": "direct"}),
    ("float32", {}, {"objective": "unpaired"}),
)


def gradient(
    base_at: Path, where: torch.device, weights: str, adapter: dict[str, Any], train: dict[str, Any]
) -> Tensor:
    """Return the gradient of a batch in float64, all factors one after the other."""
    decoder = open_base(base_at, torch.float64, weights, where).decoder
    attached = attach(decoder, AdapterSettings(rank=4, **adapter))
    for number, factor in enumerate(attached.parameters):
        torch.manual_seed(number)
        factor.data.add_(torch.randn(factor.shape, dtype=factor.dtype).to(where), alpha=0.1)
    chosen = TrainSettings(batch=10, micro_batch=4, **train)
    examples = pairs() if chosen.paired else ten_examples()
    reference = dict(ChainMap(*reference_values(decoder, examples, chosen))) if chosen.paired else None
    stepper = Stepper(decoder, attached, chosen, objective_for(chosen, examples, reference))
    torch.manual_seed(5)
    stepper.gradient(stepper.passes(examples))
    assert all(factor.device == where for factor in attached.parameters)
    return torch.cat([factor.grad.flatten().cpu() for factor in attached.parameters if factor.grad is not None])


def apart(base_at: Path) -> dict[str, float]:
    """Return how far apart the two gradients are, over the length of one, for each of the settings."""
    found = {}
    for case in GRADIENTS:
        one, other = (gradient(base_at, where, *case) for where in (CPU, DEVICE))
        found[str(case)] = float((one - other).norm() / one.norm())
    return found


def answers(base_at: Path, where: torch.device) -> list[list[list[int]]]:
    """Return greedy and drawn answers in float64, of one prompt and of several that begin alike."""
    decoder = open_base(base_at, torch.float64, device=where).decoder
    prompts = [[*range(20, 32), last] for last in (5, 6, 7)]
    drawn = Sampling(0.8, top_p=0.9, repetition=1.2)
    return [generate(decoder, given, [9], 12, how) for given in (prompts[:1], prompts) for how in (None, drawn)]


def work(folder: Path, where: str) -> dict[str, Any]:
    """Train, stop and go on, score, ask and forecast by a sheet."""
    changes = [
        f"base.device={where}",
        "train.steps=4",
        "train.checkpoint_every=2",
        "adapter.dropout=0.1",
        "train.averaging=0.5",
    ]
    sheet = foldkit.read_sheet(folder / "fold.toml", changes)
    whole = foldkit.train(sheet, f"whole-{where}")
    stopped = foldkit.train(sheet, f"stopped-{where}", stop=iter([False, False, True]).__next__)
    resumed = foldkit.resume(stopped)
    asked = foldkit.open_asked(whole.adapter, device=where)
    forecast = foldkit.forecast(sheet)
    log = foldkit.read_log(whole.log)
    return {
        "device": [json.loads(whole.sheet.read_text())["base"]["device"], asked.base.decoder.device.type],
        "said": [note["says"] for note in log.of("note")],
        "peak": log.of("finished")[0]["peak_bytes"],
        "losses": [event["validation_loss"] for event in log.of("validation")],
        "resumed": resumed.adapter.read_bytes() == whole.adapter.read_bytes(),
        "score": foldkit.score(sheet, whole).contender("adapter").measures["loss"].value,
        "answers": [asked.answer({"question": "wind 3"}, AnswerSettings(8), adapted=on) for on in (True, False)],
        "choice": asked.choice({"question": "wind 3"}, ["west", "east"]),
        "free": forecast.free_bytes,
        "parts": dataclasses.astuple(forecast.memory)[:4],
    }


def mixed() -> str:
    """Return what is said where tensors of both meet: the control."""
    try:
        torch.ones(2, device=DEVICE) + torch.ones(2)
    except RuntimeError as error:
        return str(error)
    return ""


def main() -> None:
    settings.DEVICES = (*settings.DEVICES, NAME)  # before anything that takes them from there is imported
    device.chosen_device = lambda name: CPU if name == "cpu" else DEVICE
    compute.narrow_times = lambda _: 0.5
    curves.save_picture = scorecard_files.save_scorecard = lambda *_: None  # most of the time of what is so short
    folder = Path(sys.argv[1])
    places = {"cpu": CPU, "auto": DEVICE}
    found = {
        "mixed": mixed(),
        "gradients": apart(folder / "tiny"),
        "answers": [answers(folder / "tiny", where) for where in places.values()],
        "work": [work(folder, where) for where in places],
    }
    sys.stdout.write(json.dumps(found) + "\n")
