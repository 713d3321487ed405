"""A base in a folder: `config.json`, `tokenizer.json` and one or many `*.safetensors`."""

from __future__ import annotations

import json
import re
from collections.abc import Iterator, Mapping
from pathlib import Path

import safetensors
import safetensors.torch
import torch
from torch import Tensor

from foldkit.formats.atomic import write_aside
from foldkit.formats.errors import InputError, listed
from foldkit.formats.json_object import read_json
from foldkit.formats.pointer import refuse_pointer

from .decoder import Decoder
from .families import FAMILIES, config_from_spec, reads_more_than_text, spec_from_config
from .spec import ModelSpec
from .weights import file_names, parameter_shapes, to_ours, to_theirs

# Tables that the files of some families hold beside their weights, and the head where it is tied.
_BUFFERS = re.compile(r".*\.(inv_freq|masked_bias|attn\.bias|attention\.bias)|lm_head\.weight|embed_out\.weight")

# What the weights of a part for text are called by in the files of bases that read more.
_PARTS = ("model.language_model.", "language_model.model.", "model.text_model.")

_PICKLED = (".bin", ".pt", ".pth")


def read_config(folder: Path) -> dict[str, object]:
    """Return the mapping in `config.json`; raises InputError when it is missing or not JSON."""
    path = folder / "config.json"
    if not path.exists():
        raise InputError(path, "file", "a config.json in the base's folder", None, "check the path of the base")
    return read_json(path, "fetch the file again")


def read_folder(folder: Path) -> tuple[ModelSpec, Iterator[tuple[str, Tensor]]]:
    """Return the spec and our named weights one by one, in the dtype that the files hold.

    Of a base that reads more than text these are those of its part for text. Raises InputError for a weight that is
    missing, and for one that the family does not have.
    """
    config = read_config(folder)
    spec = spec_from_config(config, str(folder / "config.json"))
    places = _places(folder)
    shapes = parameter_shapes(spec)
    wanted = list(file_names(list(shapes), FAMILIES[spec.family].modules))
    stem = wanted[0].split(".")[0] + "."
    put = _called(wanted[0], stem, places)
    called = {name: _renamed(name, stem, put) for name in wanted}
    foreign = sorted(set(places) - set(called.values()))
    foreign = [name for name in foreign if not _BUFFERS.fullmatch(name)]
    if reads_more_than_text(config):
        foreign = [name for name in foreign if name.startswith(put)]
    if foreign:
        todo = "choose a base of a known family"
        raise InputError(places[foreign[0]], "weights", "those of the config alone", foreign[0], todo)
    missing = [name for name in wanted if called[name] not in places]
    if missing:
        what = f"{len(missing)} weights missing, first {missing[0]}"
        raise InputError(folder, "*.safetensors", "all weights of the config", what, "fetch the missing files")

    def tensor(name: str) -> Tensor:
        with safetensors.safe_open(places[called[name]], framework="pt") as file:
            found: Tensor = file.get_tensor(called[name])
            return found

    return spec, to_ours(tensor, spec, shapes)


def _places(folder: Path) -> dict[str, Path]:
    """Return the names of all weights, and which file each stands in."""
    places: dict[str, Path] = {}
    for path in weight_files(folder):
        refuse_pointer(path)
        try:
            with safetensors.safe_open(path, framework="pt") as file:
                places |= dict.fromkeys(file.keys(), path)
        except (safetensors.SafetensorError, OSError) as error:
            raise InputError(path, "file", "a safetensors file", str(error), "fetch the file again") from None
    return places


def weight_files(folder: Path) -> list[Path]:
    """Return the files of a folder's weights: the one of the usual name, else those that its index names, else all.

    The same weights may stand beside them under other names. Raises InputError for an index that is damaged, or names
    a file that is not there, and where there are none.
    """
    usual, index = folder / "model.safetensors", folder / "model.safetensors.index.json"
    if usual.exists():
        return [usual]
    if index.exists():
        return _named_files(index)
    if found := sorted(folder.glob("*.safetensors")):
        return found
    others = sorted(path.name for ending in _PICKLED for path in folder.glob(f"*{ending}"))
    why = "; pickled ones could run code, and are not opened" if others else ""
    todo = f"fetch the weights as safetensors{why}"
    raise InputError(folder, "weights", "*.safetensors", listed(others) or None, todo)


def _named_files(index: Path) -> list[Path]:
    named = read_json(index, "fetch the file again").get("weight_map")
    names = sorted(set(map(str, named.values()))) if isinstance(named, dict) else []
    away = [name for name in names if name != Path(name).name or not (index.parent / name).is_file()]
    if away or not names:
        todo = "fetch the missing files" if away else "fetch the file again"
        raise InputError(index, "weight_map", "names of files beside it", listed(away) or None, todo)
    return [index.parent / name for name in names]


def _called(name: str, stem: str, places: Mapping[str, Path]) -> str:
    """Return what the files call the stem of their names: some that hold it alone leave it out."""
    return next((put for put in (stem, "", *_PARTS) if _renamed(name, stem, put) in places), stem)


def _renamed(name: str, stem: str, put: str) -> str:
    """Return a name as it is in files that call the stem so; one besides it, of the head, may stand in the part too."""
    if name.startswith(stem):
        return put + name.removeprefix(stem)
    return f"language_model.{name}" if put.startswith("language_model.") else name


def save_folder(decoder: Decoder, folder: Path, end_id: int) -> None:
    """Write `config.json` and `model.safetensors` in float16."""
    weights = {name: value.detach().to(torch.float16) for name, value in decoder.named_parameters()}
    tensors = to_theirs(weights, decoder.spec)
    write_aside(folder / "model.safetensors", safetensors.torch.save(tensors, {"format": "pt"}))
    write_aside(folder / "config.json", json.dumps(config_from_spec(decoder.spec, end_id), indent=2) + "\n")
