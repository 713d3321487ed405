"""Opening a base: the frozen decoder and the fingerprint of its files."""

from __future__ import annotations

from dataclasses import dataclass
from pathlib import Path

import torch

from foldkit.formats import InputError, fingerprint_files

from .decoder import Decoder
from .folder import read_folder
from .gguf import read_gguf


@dataclass(frozen=True)
class Base:
    """An open-weight model as it was published: its decoder, frozen, and the fingerprint of its files."""

    decoder: Decoder
    fingerprint: str
    path: Path


def open_base(path: Path, dtype: torch.dtype = torch.float32) -> Base:
    """Read a base from a folder or a `.gguf` file, expand it to `dtype`, and freeze it.

    Raises InputError for a file that is missing, damaged, or of an unknown family.
    """
    if not path.exists():
        raise InputError(path, "base", "an existing folder or .gguf file", None, "check the path of the base")
    spec, weights = read_folder(path) if path.is_dir() else read_gguf(path)
    with torch.device("meta"):
        decoder = Decoder(spec)
    for name, value in decoder.named_parameters():
        if weights[name].shape != value.shape:
            shapes = tuple(value.shape), tuple(weights[name].shape)
            raise InputError(path, f"weight {name}", f"shape {shapes[0]}", shapes[1], "fetch the files again")
    decoder.load_state_dict({name: value.to(dtype) for name, value in weights.items()}, assign=True)
    decoder.requires_grad_(requires_grad=False)
    return Base(decoder.eval(), fingerprint_base(path), path)


def fingerprint_base(path: Path) -> str:
    """Return the fingerprint of the files that make the base: weights, config and tokenizer."""
    if not path.is_dir():
        return fingerprint_files([path])
    named = [path / "config.json", path / "tokenizer.json", *path.glob("*.safetensors")]
    return fingerprint_files([file for file in named if file.exists()])
