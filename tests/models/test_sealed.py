"""Files of tensors that tell whether they are as they were written."""

from __future__ import annotations

import itertools
from pathlib import Path

import pytest
import torch

from foldkit.models.sealed import UnsealedError, read_sealed, read_sealed_values, write_sealed
from tests.room import little_room


def test_a_sealed_file_without_room_is_an_error_of_the_system(tmp_path: Path) -> None:
    """With the system's own words and the file's name, and nothing left beside it."""
    path = tmp_path / "a.safetensors"
    with little_room(), pytest.raises(OSError, match=r"File too large: '.*a\.safetensors'"):
        write_sealed(path, {"a": torch.zeros(1000)}, {})
    assert list(tmp_path.iterdir()) == []


def test_a_sealed_file_tells_each_byte_that_is_not_as_it_was_written(tmp_path: Path) -> None:
    """Tensors of any dtype and values come back; whichever byte is another one, what they were is not believed."""
    path = tmp_path / "a.safetensors"
    tensors = {"b": torch.tensor([[1.5, -2.0]]).bfloat16(), "a": torch.tensor(7), "none": torch.zeros(0)}
    values = {"é": [1, None, 0.1], "a": {"b": float("nan")}}
    write_sealed(path, tensors, values)
    found, told = read_sealed(path)
    assert {name: (value.dtype, value.tolist()) for name, value in found.items()} == {
        name: (value.dtype, value.tolist()) for name, value in tensors.items()
    }
    assert str(told) == str(read_sealed_values(path)) == str(dict(sorted(values.items())))
    whole = path.read_bytes()
    write_sealed(path, tensors, values)
    assert path.read_bytes() == whole
    for place, bit in itertools.product(range(len(whole)), (1, 64)):
        path.write_bytes(whole[:place] + bytes([whole[place] ^ bit]) + whole[place + 1 :])
        with pytest.raises(UnsealedError):
            read_sealed(path)
