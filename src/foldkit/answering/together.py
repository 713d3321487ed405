"""Which texts are read together: those of like length, and no more than memory has room for."""

from __future__ import annotations

from collections.abc import Iterator, Sequence

# Tokens of prompts and answers that are held at once: 0.4 GB of keys and values in a base of 135M parameters.
TOKENS_AT_ONCE = 8192


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
