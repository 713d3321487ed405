"""GGUF files written by the format's own package are read as it reads them; damaged ones are refused."""

from __future__ import annotations

import random
from pathlib import Path

import gguf
import numpy as np
import pytest

from foldkit.formats import BLOCK_TYPES, GgufFile, InputError, expand_blocks


def write_gguf(path: Path) -> Path:
    writer = gguf.GGUFWriter(path, "llama")
    writer.add_block_count(3)
    writer.add_array("names", ["a", "é", ""])
    writer.add_array("numbers", [1, -2, 3])
    writer.add_float32("eps", 0.5)
    writer.add_tensor("w", np.arange(64, dtype=np.float32).reshape(2, 32))
    writer.add_tensor(
        "q",
        gguf.quants.quantize(np.ones((3, 64), np.float32), gguf.GGMLQuantizationType.Q8_0),
        raw_dtype=gguf.GGMLQuantizationType.Q8_0,
    )
    writer.write_header_to_file()
    writer.write_kv_data_to_file()
    writer.write_tensors_to_file()
    writer.close()
    return path


def test_header_and_tensors_are_read_as_they_were_written(tmp_path: Path) -> None:
    """Metadata of every kind, shapes outermost first, and the tensor data."""
    file = GgufFile(write_gguf(tmp_path / "a.gguf"))
    assert file.metadata["llama.block_count"] == 3
    assert file.metadata["names"] == ["a", "é", ""]
    assert file.metadata["numbers"] == [1, -2, 3]
    assert file.metadata["eps"] == 0.5
    assert file.tensors["q"].shape == (3, 64)
    w = file.tensors["w"]
    np.testing.assert_array_equal(expand_blocks(file.blocks(w), w.type_id, w.shape), np.arange(64.0).reshape(2, 32))


@pytest.mark.parametrize("type_id", BLOCK_TYPES)
def test_every_block_type_expands_as_the_formats_own_package_does(type_id: int) -> None:
    """Bit for bit, on random blocks; the package is the independent oracle."""
    block, kind = BLOCK_TYPES[type_id], gguf.GGMLQuantizationType(type_id)
    assert kind.name == block.name
    # Random bytes are blocks of every type; those whose scales come out as no number are left out.
    data = np.random.default_rng(4).integers(0, 256, (400, block.n_bytes), dtype=np.uint8)
    if type_id in (0, 1):
        expected = data.view(np.float32 if type_id == 0 else np.float16).astype(np.float32)
    else:
        with np.errstate(all="ignore"):
            expected = gguf.quants.dequantize(data, kind)
    finite = np.isfinite(expected).all(1)
    assert finite.sum() > 300
    found = expand_blocks(data[finite].reshape(-1), type_id, expected[finite].shape)
    np.testing.assert_array_equal(found, expected[finite])
    assert found.shape[1] == block.n_values


def test_low_and_high_halves_are_not_swapped() -> None:
    """Known-bad control: a block whose halves are exchanged expands to something else."""
    data = gguf.quants.quantize(np.arange(32, dtype=np.float32)[None], gguf.GGMLQuantizationType.Q4_1).reshape(-1)
    swapped = data.copy()
    swapped[4:] = (data[4:] << 4) | (data[4:] >> 4)
    assert not np.array_equal(expand_blocks(data, 3, (32,)), expand_blocks(swapped, 3, (32,)))


def test_damaged_files_are_refused_by_name(tmp_path: Path) -> None:
    """Cut short, or with bytes of the header changed: an InputError with the path, never another error."""
    whole = write_gguf(tmp_path / "a.gguf").read_bytes()
    rng = random.Random(2)
    refused = 0
    for index in range(150):
        data = bytearray(whole)
        if index % 2:
            data = data[: rng.randrange(len(whole) - 1)]
        else:
            for _ in range(8):
                data[rng.randrange(300)] = rng.randrange(256)
        path = tmp_path / "bad.gguf"
        path.write_bytes(data)
        try:
            GgufFile(path)
        except InputError as error:
            refused += 1
            assert str(path) in str(error)
    assert refused > 100


def test_missing_and_foreign_files_say_what_to_do(tmp_path: Path) -> None:
    """A missing file and one that is not GGUF."""
    with pytest.raises(InputError, match="existing file"):
        GgufFile(tmp_path / "none.gguf")
    (tmp_path / "x.gguf").write_bytes(b"ZZZZ" + bytes(100))
    with pytest.raises(InputError, match="first four bytes"):
        GgufFile(tmp_path / "x.gguf")
