"""Prompts reworded by simple seeded edits, to see whether an answer hangs on the letter of its prompt."""

from __future__ import annotations

import random
import re
from collections.abc import Collection, Mapping, Sequence


def reworded(
    rows: Sequence[Mapping[str, str]], slots: Collection[str], kinds: Sequence[str], seed: int
) -> list[dict[str, str]]:
    """Return the rows with the cells of these slots edited; what an edit draws depends on the seed and the row's place.

    `case` takes capitals out, `marks` takes punctuation but for that within numbers out, `spelling` swaps two inner
    letters of about one word in eight.
    """
    found = []
    for index, row in enumerate(rows):
        rng = random.Random(f"{seed}:{index}")
        found.append({name: _edited(cell, kinds, rng) if name in slots else cell for name, cell in row.items()})
    return found


def _edited(text: str, kinds: Sequence[str], rng: random.Random) -> str:
    if "case" in kinds:
        text = text.lower()
    if "marks" in kinds:
        text = re.sub(r"(?<!\d)[.,;:!?]|[.,;:!?](?!\d)", "", text)
    if "spelling" in kinds:
        text = re.sub(r"[^\W\d_]{4,}", lambda found: _misspelt(found.group(), rng), text)
    return text


def _misspelt(word: str, rng: random.Random) -> str:
    if rng.random() >= 1 / 8:
        return word
    at = rng.randrange(1, len(word) - 2)
    return word[:at] + word[at + 1] + word[at] + word[at + 2 :]
