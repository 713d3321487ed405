"""Examples outside train that are examples of train, token by token: counted as a dataset is written."""

from __future__ import annotations

from array import array

import numpy as np

from .examples import Examples
from .placing import PARTS


class Repeats:
    """Remembers a number of eight bytes for each example, and the rows of those outside train."""

    def __init__(self) -> None:
        self._keys = {part: array("q") for part in PARTS}
        self._rows = {part: array("q") for part in PARTS[1:]}

    def add(self, part: str, examples: Examples) -> None:
        """Remember the examples of a part."""
        self._keys[part].extend(map(hash, examples.texts()))
        if part in self._rows:
            self._rows[part].extend(examples.rows.tolist())

    @property
    def notes(self) -> list[str]:
        """How many examples of each part stand in train, in words."""
        train = np.sort(np.array(self._keys["train"], dtype=np.int64))
        found = {}
        for part, rows in self._rows.items():
            keys = np.array(self._keys[part], dtype=np.int64)
            again = np.searchsorted(train, keys, "right") > np.searchsorted(train, keys)
            if again.any():
                found[part] = np.array(rows, np.int64)[again]
        if not found:
            return []
        told = " and ".join(f"{len(rows):,} of {part}" for part, rows in found.items())
        first = min(int(rows.min()) for rows in found.values())
        return [
            f"rows that stand in train too, token by token: {told}, the first row {first}; what is measured on them "
            'flatters: foldkit split names them, and group = "near" in [split] keeps such rows together'
        ]
