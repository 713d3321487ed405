"""Frozen matrices held in few bits, expanded as they are used. The registry is by the name in `[base] weights`."""

from .contract import (
    FrozenEmbedding,
    FrozenLinear,
    Held,
    Matrix,
    Parts,
    add_times,
    has_narrow,
    product,
    times,
    times_back,
)
from .few import left_product, wants_left
from .int8 import Int8
from .narrow import is_narrower
from .nf4 import Nf4
from .packed import Packed
from .sixteen import Sixteen, bfloat16

# How a matrix is held that is given in floats.
HOLDERS = {"bfloat16": bfloat16, "int8": Int8, "nf4": Nf4}

__all__ = [
    "HOLDERS",
    "FrozenEmbedding",
    "FrozenLinear",
    "Held",
    "Int8",
    "Matrix",
    "Nf4",
    "Packed",
    "Parts",
    "Sixteen",
    "add_times",
    "bfloat16",
    "has_narrow",
    "is_narrower",
    "left_product",
    "product",
    "times",
    "times_back",
    "wants_left",
]
