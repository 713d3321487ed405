"""Which texts are read together: those of like length, and no more than memory has room for."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from typing import TYPE_CHECKING

if TYPE_CHECKING:
    from foldkit.models import Decoder

# Tokens of prompts and answers that are held at once, and bytes that they may take beside the base.
MOST_TOKENS, _MOST_BYTES = 8192, 2**31


def tokens_at_once(decoder: Decoder) -> int:
    """Return how many tokens of prompts and answers are held at once: 8,192, fewer where they would take over 2 GiB.

    A token takes its keys and values in every layer, and, while prompts are read, four vectors as wide as an MLP.
    """
    spec, size = decoder.spec, decoder.dtype.itemsize
    kept = 2 * spec.n_layers * spec.n_kv_heads * spec.head_dim
    return max(1, min(MOST_TOKENS, _MOST_BYTES // (size * (kept + 4 * spec.d_ff))))


def together(lengths: Sequence[int], most: int, n_tokens: int) -> Iterator[list[int]]:
    """Yield the places of texts of these lengths, the shortest first, in batches of at most so many texts and tokens.

    Padding counts. A text that is longer by itself stands alone.
    """
    chosen: list[int] = []
    for place in sorted(range(len(lengths)), key=lengths.__getitem__):
        if chosen and (len(chosen) == most or (len(chosen) + 1) * lengths[place] > n_tokens):
            yield chosen
            chosen = []
        chosen.append(place)
    if chosen:
        yield chosen
