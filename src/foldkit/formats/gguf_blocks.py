"""Block types of GGUF tensors and their expansion to float32.

Source: the published block layouts. Blocks of 32 values hold a float16 scale d, for some a float16 minimum m, then the
numbers: Q8_0 d*q, Q4_0 d*(q - 8), Q4_1 d*q + m, Q5_0 d*(q - 16), Q5_1 d*q + m, IQ4_NL d*TABLE[q]. 4-bit numbers of
the first 16 values stand in the low halves of the 16 bytes, those of the last 16 in the high halves; a fifth bit stands
in a word of 32 bits.

Blocks of 256 values (the K types and IQ4_XS) have scales of their own for every 16 or 32 values, themselves packed,
under one float16 scale d and for some one float16 scale of the minima.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass

import numpy as np


@dataclass(frozen=True)
class BlockType:
    """How many values a block has, how many bytes it takes, and how it is expanded."""

    name: str
    n_values: int
    n_bytes: int
    expand: Callable[[np.ndarray], np.ndarray]


def _f32(blocks: np.ndarray) -> np.ndarray:
    return blocks.view("<f4").astype(np.float32)


def _f16(blocks: np.ndarray) -> np.ndarray:
    return blocks.view("<f2").astype(np.float32)


def _bf16(blocks: np.ndarray) -> np.ndarray:
    return (blocks.view("<u2").astype(np.uint32) << 16).view(np.float32)


def _scale(blocks: np.ndarray, start: int = 0) -> np.ndarray:
    return np.ascontiguousarray(blocks[:, start : start + 2]).view("<f2").astype(np.float32)


def _halves(packed: np.ndarray) -> np.ndarray:
    return np.concatenate((packed & 15, packed >> 4), axis=1)


def _q8_0(blocks: np.ndarray) -> np.ndarray:
    values = blocks[:, 2:].view(np.int8).astype(np.float32)
    values *= _scale(blocks)
    return values


def _q4_0(blocks: np.ndarray) -> np.ndarray:
    return _scale(blocks) * (_halves(blocks[:, 2:]).astype(np.float32) - 8)


def _q4_1(blocks: np.ndarray) -> np.ndarray:
    values = _halves(blocks[:, 4:]).astype(np.float32)
    values *= _scale(blocks)
    values += _scale(blocks, 2)
    return values


def _fifth_bits(blocks: np.ndarray, start: int) -> np.ndarray:
    """Return the 32 bits of the word at `start` as uint8 (n, 32), each in the place of the fifth bit."""
    return np.unpackbits(blocks[:, start : start + 4], axis=1, bitorder="little") << 4


def _q5_0(blocks: np.ndarray) -> np.ndarray:
    numbers = _halves(blocks[:, 6:]) | _fifth_bits(blocks, 2)
    values: np.ndarray = _scale(blocks) * (numbers.astype(np.float32) - 16)
    return values


def _q5_1(blocks: np.ndarray) -> np.ndarray:
    numbers = _halves(blocks[:, 8:]) | _fifth_bits(blocks, 4)
    values: np.ndarray = _scale(blocks) * numbers.astype(np.float32) + _scale(blocks, 2)
    return values


def _two_bits(packed: np.ndarray) -> np.ndarray:
    """Return 256 numbers of 2 bits from 64 bytes: of each 32 bytes the lowest bits come first."""
    halves = packed.reshape(-1, 2, 1, 32) >> np.array([0, 2, 4, 6], np.uint8)[:, None]
    return (halves & 3).reshape(-1, 256)


def _each(scales: np.ndarray, n_values: int) -> np.ndarray:
    """Return every scale (n, 256 / n_values) for each of its values, float32 (n, 256)."""
    return np.repeat(scales.astype(np.float32), n_values, axis=1)


def _q2_k(blocks: np.ndarray) -> np.ndarray:
    scales, numbers = blocks[:, :16], _two_bits(blocks[:, 16:80]).astype(np.float32)
    scale, minimum = _scale(blocks, 80) * _each(scales & 15, 16), _scale(blocks, 82) * _each(scales >> 4, 16)
    values: np.ndarray = scale * numbers - minimum
    return values


def _q3_k(blocks: np.ndarray) -> np.ndarray:
    high = blocks[:, :32].reshape(-1, 1, 32) >> np.arange(8, dtype=np.uint8)[:, None]
    numbers = _two_bits(blocks[:, 32:96]).astype(np.float32) - 4 * (1 - (high & 1).reshape(-1, 256).astype(np.float32))
    low, upper = blocks[:, 96:104], blocks[:, 104:108]
    four = np.concatenate((low & 15, low >> 4), axis=1)
    two = ((upper[:, None, :] >> np.array([0, 2, 4, 6], np.uint8)[:, None]) & 3).reshape(-1, 16)
    scales = (four | (two << 4)).astype(np.float32) - 32
    values: np.ndarray = _scale(blocks, 108) * _each(scales, 16) * numbers
    return values


def _six_bit_scales(packed: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
    """Return 8 scales and 8 minima of 6 bits from 12 bytes: four each whole, four each in two pieces."""
    first, second, rest = packed[:, :4], packed[:, 4:8], packed[:, 8:]
    scales = np.concatenate((first & 63, (rest & 15) | ((first >> 6) << 4)), axis=1)
    minima = np.concatenate((second & 63, (rest >> 4) | ((second >> 6) << 4)), axis=1)
    return scales, minima


def _nibbles_by_64(packed: np.ndarray) -> np.ndarray:
    """Return 256 numbers of 4 bits from 128 bytes: of each 32 bytes the low halves come first."""
    groups = packed.reshape(-1, 4, 1, 32)
    return np.concatenate((groups & 15, groups >> 4), axis=2).reshape(-1, 256)


def _scaled_by_32(blocks: np.ndarray, numbers: np.ndarray) -> np.ndarray:
    scales, minima = _six_bit_scales(blocks[:, 4:16])
    scale, minimum = _scale(blocks) * _each(scales, 32), _scale(blocks, 2) * _each(minima, 32)
    values: np.ndarray = scale * numbers.astype(np.float32) - minimum
    return values


def _q4_k(blocks: np.ndarray) -> np.ndarray:
    return _scaled_by_32(blocks, _nibbles_by_64(blocks[:, 16:]))


def _q5_k(blocks: np.ndarray) -> np.ndarray:
    high = (blocks[:, 16:48].reshape(-1, 1, 32) >> np.arange(8, dtype=np.uint8)[:, None]) & 1
    return _scaled_by_32(blocks, _nibbles_by_64(blocks[:, 48:]) | (high.reshape(-1, 256) << 4))


def _q6_k(blocks: np.ndarray) -> np.ndarray:
    low = blocks[:, :128].reshape(-1, 2, 1, 64)
    four = np.concatenate((low & 15, low >> 4), axis=2).reshape(-1, 256)
    numbers = (four | (_two_bits(blocks[:, 128:192]) << 4)).astype(np.float32) - 32
    scales = blocks[:, 192:208].view(np.int8)
    values: np.ndarray = _scale(blocks, 208) * _each(scales, 16) * numbers
    return values


# The sixteen values of the IQ4 types, from the published table.
_TABLE = np.array([-127, -104, -83, -65, -49, -35, -22, -10, 1, 13, 25, 38, 53, 69, 89, 113], np.float32)


def _iq4_nl(blocks: np.ndarray) -> np.ndarray:
    values: np.ndarray = _scale(blocks) * _TABLE[_halves(blocks[:, 2:])]
    return values


def _iq4_xs(blocks: np.ndarray) -> np.ndarray:
    upper = np.ascontiguousarray(blocks[:, 2:4]).view("<u2") >> np.arange(0, 16, 2, dtype=np.uint16) & 3
    low = blocks[:, 4:8, None] >> np.array([0, 4], np.uint8) & 15
    scales = (low.reshape(-1, 8) | (upper << 4).astype(np.uint8)).astype(np.float32) - 32
    groups = blocks[:, 8:].reshape(-1, 8, 16)
    numbers = np.concatenate((groups & 15, groups >> 4), axis=2).reshape(-1, 256)
    values: np.ndarray = _scale(blocks) * _each(scales, 32) * _TABLE[numbers]
    return values


BLOCK_TYPES: dict[int, BlockType] = {
    0: BlockType("F32", 1, 4, _f32),
    1: BlockType("F16", 1, 2, _f16),
    2: BlockType("Q4_0", 32, 18, _q4_0),
    3: BlockType("Q4_1", 32, 20, _q4_1),
    6: BlockType("Q5_0", 32, 22, _q5_0),
    7: BlockType("Q5_1", 32, 24, _q5_1),
    8: BlockType("Q8_0", 32, 34, _q8_0),
    10: BlockType("Q2_K", 256, 84, _q2_k),
    11: BlockType("Q3_K", 256, 110, _q3_k),
    12: BlockType("Q4_K", 256, 144, _q4_k),
    13: BlockType("Q5_K", 256, 176, _q5_k),
    14: BlockType("Q6_K", 256, 210, _q6_k),
    20: BlockType("IQ4_NL", 32, 18, _iq4_nl),
    23: BlockType("IQ4_XS", 256, 136, _iq4_xs),
    30: BlockType("BF16", 1, 2, _bf16),
}


def expand_blocks(data: np.ndarray, type_id: int, shape: tuple[int, ...]) -> np.ndarray:
    """Expand uint8 data (n_bytes,) of one tensor to float32 of the given shape; always a copy."""
    block = BLOCK_TYPES[type_id]
    values = block.expand(data.reshape(-1, block.n_bytes))
    return values.reshape(shape)
