"""One process of a team: writes the gradient of ten examples, and what a validation of them finds, into files."""

from __future__ import annotations

import dataclasses
import sys
from pathlib import Path

import safetensors.torch
import torch
from torch.distributed.tensor import DTensor

from foldkit.models.sharding import shard
from foldkit.training import TrainSettings
from foldkit.training.objective import ReplyObjective, mean_loss
from foldkit.training.stepping import Stepper
from foldkit.training.team import Team, joined_team

from ..conftest import ten_examples
from .test_training import with_adapter

SETTINGS = TrainSettings(micro_batch=3, clip=1e9)
HOWS: dict[str, dict[str, bool]] = {
    "whole": {},
    "sharded": {"sharded": True},
    "sharded, recompute": {"sharded": True, "recompute": True},
}


def found_by(team: Team, *, sharded: bool = False, recompute: bool = False) -> dict[str, torch.Tensor]:
    """Return the gradient that this process holds after a batch, and the figures of the batch and of a validation."""
    settings = dataclasses.replace(SETTINGS, recompute=recompute)
    decoder, adapter = with_adapter()
    if sharded:
        shard(decoder, adapter.parameters, decoder.device)
        held = sum(w.to_local().numel() for w in decoder.layers.parameters() if isinstance(w, DTensor))
        assert held <= 0.51 * (decoder.n_parameters - adapter.n_parameters)
    objective = ReplyObjective(settings)
    stepper = Stepper(decoder, adapter, settings, objective, team)
    figures = stepper.gradient(stepper.passes(ten_examples()))
    checked = mean_loss(decoder, objective, objective.passes(ten_examples(), team.size), team)
    grads = {str(index): f.grad for index, f in enumerate(adapter.parameters) if f.grad is not None}
    numbers = [figures.loss, figures.accuracy, figures.norm, checked.loss, checked.accuracy]
    return grads | {"figures": torch.tensor(numbers, dtype=torch.float64)}


if __name__ == "__main__":
    with joined_team() as joined:
        for name, how in HOWS.items():
            found = found_by(joined, **how)
            safetensors.torch.save_file(found, Path(sys.argv[1]) / f"{name}, {joined.rank}.safetensors")
