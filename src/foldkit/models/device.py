"""Which device a base is computed on: the one asked for, or a GPU where there is one."""

from __future__ import annotations

import os

import torch

from foldkit.formats import UsageError

CPU = torch.device("cpu")


def chosen_device(name: str) -> torch.device:
    """Return the device of this name; "auto" is a GPU that PyTorch can use, and the processor where there is none.

    Of several GPUs the processes of a training take one each, in the order of LOCAL_RANK. Raises UsageError where
    "cuda" is asked for and PyTorch finds none, or where there are more processes than GPUs.
    """
    there = torch.cuda.is_available()
    if name == "cuda" and not there:
        todo = "set it to cpu, or install a PyTorch that is built for this GPU"
        raise UsageError("[base]", "device", "cpu, for PyTorch finds no GPU here", name, todo)
    if name == "cpu" or not there:
        return CPU
    here, most = int(os.environ.get("LOCAL_WORLD_SIZE", "1")), torch.cuda.device_count()
    if here > most:
        todo = "start fewer, or set base.device to cpu"
        raise UsageError("training", "processes on this machine", f"at most its {most} GPUs", here, todo)
    return torch.device("cuda", int(os.environ.get("LOCAL_RANK", "0")))
