"""Block types of GGUF tensors and their expansion to float32.

Source: the published block layouts. Every block of 32 values holds a float16 scale d (and for Q4_1 a float16
minimum m), then the numbers: Q8_0 d*q, Q4_0 d*(q - 8), Q4_1 d*q + m; 4-bit numbers of the first 16 values stand in the
low halves of the 16 bytes, those of the last 16 in the high halves.
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
    return np.asarray(blocks.view("<f4"), np.float32)


def _f16(blocks: np.ndarray) -> np.ndarray:
    return blocks.view("<f2").astype(np.float32)


def _bf16(blocks: np.ndarray) -> np.ndarray:
    return (blocks.view("<u2").astype(np.uint32) << 16).view(np.float32)


def _scale(blocks: np.ndarray, start: int = 0) -> np.ndarray:
    return np.ascontiguousarray(blocks[:, start : start + 2]).view("<f2").astype(np.float32)


def _halves(packed: np.ndarray) -> np.ndarray:
    return np.concatenate((packed & 15, packed >> 4), axis=1)


def _q8_0(blocks: np.ndarray) -> np.ndarray:
    return _scale(blocks) * blocks[:, 2:].view(np.int8).astype(np.float32)


def _q4_0(blocks: np.ndarray) -> np.ndarray:
    return _scale(blocks) * (_halves(blocks[:, 2:]).astype(np.float32) - 8)


def _q4_1(blocks: np.ndarray) -> np.ndarray:
    values: np.ndarray = _scale(blocks) * _halves(blocks[:, 4:]).astype(np.float32) + _scale(blocks, 2)
    return values


BLOCK_TYPES: dict[int, BlockType] = {
    0: BlockType("F32", 1, 4, _f32),
    1: BlockType("F16", 1, 2, _f16),
    2: BlockType("Q4_0", 32, 18, _q4_0),
    3: BlockType("Q4_1", 32, 20, _q4_1),
    8: BlockType("Q8_0", 32, 34, _q8_0),
    30: BlockType("BF16", 1, 2, _bf16),
}


def expand_blocks(data: np.ndarray, type_id: int, shape: tuple[int, ...]) -> np.ndarray:
    """Expand uint8 data (n_bytes,) of one tensor to float32 of the given shape; always a copy."""
    block = BLOCK_TYPES[type_id]
    values = block.expand(data.reshape(-1, block.n_bytes))
    return np.array(values, dtype=np.float32).reshape(shape)
