"""Pairs of texts that may be alike, found without comparing all: MinHash in bands, and a sketch that refutes.

The least of a text's shingles, each hashed anew, is that of another text with a chance of their likeness (Broder 1997).
Texts whose least ones are the same in a whole band of hashes are candidates (Leskovec et al. 2014, section 3.4).
"""

from __future__ import annotations

import math
from collections.abc import Sequence
from concurrent.futures import ThreadPoolExecutor

import numpy as np

from .shingles import few_at_once, shingles_of_few

_BANDS, _MOST_HASHES = 40, 16
# Two texts at the threshold have this chance in each band: in 40, all but 3 of 1,000 such pairs are found.
_CHANCE = 0.135
_WORDS, _BITS = 4, 64
# NumPy computes in several threads at once.
_THREADS = 4


def candidates(texts: Sequence[str], threshold: float) -> tuple[np.ndarray, np.ndarray]:
    """Return pairs of different texts, int64 (n,) the earlier and (n,) the later, in order, each once.

    Almost all whose likeness is at the threshold or above it, and hardly any that are far below it.
    """
    n, (sizes, sketches, keys) = len(texts), _drawn(texts, threshold)
    unlike = (1 - threshold) / (1 + threshold)
    found = np.empty(0, np.int64)
    for band in keys:
        order = np.argsort(band, kind="stable")
        ordered, fresh, places, step = band[order], [], np.arange(n), 0
        while len(places):
            step += 1
            places = places[places + step < n]
            places = places[ordered[places] == ordered[places + step]]
            first, second = order[places], order[places + step]
            # A shingle that only one of two has turns one bit: of pairs at the threshold so many at most differ.
            apart = np.bitwise_count(sketches[first] ^ sketches[second]).sum(axis=1)
            near = apart <= unlike * (sizes[first] + sizes[second]) + 1e-9
            fresh.append(first[near] * n + second[near])
        found = np.sort(np.concatenate([found, *fresh]))
        found = found[np.diff(found, prepend=-1) > 0]
    return found // max(n, 1), found % max(n, 1)


def _drawn(texts: Sequence[str], threshold: float) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
    """Return what is kept of the shingles of texts, which are too many to keep.

    How many they are, int64 (n_texts,); 256 bits, each turned by every shingle whose number falls to it, uint64
    (n_texts, 4); and their least hashes, those of a band as one number, uint64 (bands, n_texts).
    """
    n = len(texts)
    sizes, sketches, keys = np.empty(n, np.int64), np.empty((n, _WORDS), np.uint64), np.zeros((_BANDS, n), np.uint64)
    turned, factors = _hashes(threshold)

    def draw(part: slice) -> None:
        shingles = shingles_of_few(texts[part])
        numbers, starts = shingles.numbers, shingles.starts[:-1]
        sizes[part] = shingles.sizes
        word, bit = numbers >> 6 & _WORDS - 1, np.uint64(1) << (numbers & _BITS - 1).astype(np.uint64)
        for place in range(_WORDS):
            sketches[part, place] = np.bitwise_xor.reduceat(np.where(word == place, bit, np.uint64(0)), starts)
        high = (numbers >> 31).astype(np.uint32)
        for band, (turns, odd) in enumerate(zip(turned, factors, strict=True)):
            for turn, factor in zip(turns, odd, strict=True):
                least = np.minimum.reduceat((high ^ turn) * factor, starts)
                keys[band, part] = keys[band, part] * np.uint64(0x100000001B3) + least

    with ThreadPoolExecutor(_THREADS) as pool:
        list(pool.map(draw, few_at_once(texts)))
    return sizes, sketches, keys


def _hashes(threshold: float) -> tuple[np.ndarray, np.ndarray]:
    """Return what each hash turns in a number and multiplies it by, both uint32 (bands, hashes of a band)."""
    wanted = math.log(_CHANCE) / math.log(threshold) if threshold < 1 else _MOST_HASHES
    n_hashes = min(_MOST_HASHES, max(1, int(wanted)))
    turned, factors = np.random.default_rng(1).integers(0, 2**32, (2, _BANDS, n_hashes), dtype=np.uint32)
    return turned, factors | np.uint32(1)
