"""Pairs of texts that may be alike, found without comparing all: MinHash in bands, and a sketch that refutes.

The least of a text's shingles, each hashed anew, is that of another text with a chance of their likeness (Broder 1997).
Texts whose least ones are the same in a whole band of hashes are candidates (Leskovec et al. 2014, section 3.4).
"""

from __future__ import annotations

import math

import numpy as np

from .shingles import Shingles

_BANDS, _MOST_HASHES = 40, 16
# Two texts at the threshold have this chance in each band: in 40, all but 3 of 1,000 such pairs are found.
_CHANCE = 0.135
_WORDS, _BITS = 4, 64


def candidates(shingles: Shingles, threshold: float) -> tuple[np.ndarray, np.ndarray]:
    """Return pairs of texts, int64 (n,) the earlier and (n,) the later, in order, each once.

    Almost all whose likeness is at the threshold or above it, and hardly any that are far below it.
    """
    n, sizes, sketches = len(shingles.starts) - 1, shingles.sizes, _sketches(shingles)
    unlike = (1 - threshold) / (1 + threshold)
    found = np.empty(0, np.int64)
    for band in _keys(shingles, threshold):
        order = np.argsort(band, kind="stable")
        keys, fresh, places, step = band[order], [], np.arange(n), 0
        while len(places):
            step += 1
            places = places[places + step < n]
            places = places[keys[places] == keys[places + step]]
            first, second = order[places], order[places + step]
            # A shingle that only one of two has turns one bit: of pairs at the threshold so many at most differ.
            apart = np.bitwise_count(sketches[first] ^ sketches[second]).sum(axis=1)
            near = apart <= unlike * (sizes[first] + sizes[second]) + 1e-9
            fresh.append(first[near] * n + second[near])
        found = np.union1d(found, np.concatenate([np.empty(0, np.int64), *fresh]))
    return found // max(n, 1), found % max(n, 1)


def _sketches(shingles: Shingles) -> np.ndarray:
    """Return for each text 256 bits, uint64 (n_texts, 4), each turned by every shingle whose number falls to it."""
    sketches = np.empty((len(shingles.starts) - 1, _WORDS), np.uint64)
    for part in shingles.parts():
        numbers, starts = _some(shingles, part)
        word, bit = numbers >> 6 & _WORDS - 1, np.uint64(1) << (numbers & _BITS - 1).astype(np.uint64)
        for place in range(_WORDS):
            own = np.where(word == place, bit, np.uint64(0))
            sketches[part, place] = np.bitwise_xor.reduceat(own, starts)
    return sketches


def _keys(shingles: Shingles, threshold: float) -> np.ndarray:
    """Return the least hashes of each text, those of a band as one number: uint64 (bands, n_texts)."""
    wanted = math.log(_CHANCE) / math.log(threshold) if threshold < 1 else _MOST_HASHES
    n_hashes = min(_MOST_HASHES, max(1, int(wanted)))
    turned, factors = np.random.default_rng(1).integers(0, 2**32, (2, _BANDS, n_hashes), dtype=np.uint32)
    keys = np.zeros((_BANDS, len(shingles.starts) - 1), np.uint64)
    for part in shingles.parts():
        numbers, starts = _some(shingles, part)
        high = (numbers >> 31).astype(np.uint32)
        for band in range(_BANDS):
            for turn, factor in zip(turned[band], factors[band] | np.uint32(1), strict=True):
                least = np.minimum.reduceat((high ^ turn) * factor, starts)
                keys[band, part] = keys[band, part] * np.uint64(0x100000001B3) + least
    return keys


def _some(shingles: Shingles, part: slice) -> tuple[np.ndarray, np.ndarray]:
    """Return the numbers of some texts, and where each of these begins among them."""
    starts = shingles.starts[part]
    return shingles.numbers[starts[0] : shingles.starts[part.stop]], starts - starts[0]
