"""Bytes that a training takes, by part, from shapes and from what one small pass keeps for its way back."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import NamedTuple

import torch
from torch import Tensor

from foldkit.adapters.attaching import Adapter
from foldkit.models.batch import Batch, pack
from foldkit.models.decoder import Decoder
from foldkit.models.freeing import give_back
from foldkit.models.held import Held
from foldkit.models.likelihood import learned_stream, rows_at_once
from foldkit.models.piece import Piece
from foldkit.models.pieces import FEW_KEYS

from .settings import TrainSettings

# What is taken beside all parts while nothing is measured: libraries' own buffers, and gaps between what is kept.
_BUFFERS, _GAPS = 60e6, 0.2
# Of more tokens it takes long to measure what they keep.
_ENOUGH = 4 * FEW_KEYS


class Kept(NamedTuple):
    """Bytes that are kept for the way back: so many a token, and so many a pair of tokens of one example."""

    per_token: float
    per_pair: float

    def of(self, n_tokens: int, n_before: int) -> float:
        """Return the bytes of tokens and what stands before them."""
        return n_tokens * (self.per_token + self.per_pair * (n_before + n_tokens))


@dataclass(frozen=True)
class PassCost:
    """Bytes that a pass keeps for its way back: where a piece sees few keys, and where it sees many.

    Beside them `fixed` ones, however many tokens it has, such as scaled copies of factors.
    """

    few: Kept
    many: Kept
    fixed: float

    def of(self, batch: Batch) -> float:
        """Return the bytes of a batch."""
        pieces = batch.pieces or [Piece(batch.ids.shape[1])] * len(batch.ids)
        return self.fixed + sum(self._kept(piece).of(piece.n_tokens, piece.n_before) for piece in pieces)

    def _kept(self, piece: Piece) -> Kept:
        return self.few if piece.n_keys <= FEW_KEYS else self.many


def pass_cost(decoder: Decoder, ids: Sequence[int]) -> PassCost:
    """Measure what an example of these ids keeps, its first tokens by themselves where it has many.

    What longer ones keep than is measured follows, for no part of it grows faster than with the pairs of tokens.
    """
    ids, n_few = ids[:_ENOUGH], min(len(ids), FEW_KEYS)
    one = kept_bytes(decoder, ids[:1])
    few = _kept(decoder, ids[:n_few], max(2, n_few // 2), 1, one)
    fixed = max(0.0, one - few.of(1, 0))
    if len(ids) == n_few:
        return PassCost(few, few, fixed)
    return PassCost(few, _kept(decoder, ids, max(FEW_KEYS + 1, len(ids) // 2), 0, fixed), fixed)


def _kept(decoder: Decoder, ids: Sequence[int], n_first: int, n_known: int, known: float) -> Kept:
    """Measure what ids keep, and so many first ones of them, and divide it between tokens and pairs.

    What is kept with the first `n_known` of them is known.
    """
    n = len(ids)
    first, every = ((kept_bytes(decoder, ids[:size]) - known) / (size - n_known) for size in (n_first, n))
    per_pair = max(0.0, (every - first) / (n - n_first)) if n > n_first else 0.0
    return Kept(every - per_pair * (n + n_known), per_pair)


def kept_bytes(decoder: Decoder, ids: Sequence[int]) -> int:
    """Return the bytes that the decoder keeps for its way back from these ids, weights not among them."""
    own = {_storage(value) for value in (*decoder.parameters(), *decoder.buffers())}
    kept: dict[int, int] = {}

    def note(value: Tensor) -> Tensor:
        if (place := _storage(value)) not in own:
            kept[place] = value.untyped_storage().nbytes()
        return value.detach()  # with its way back it would keep itself alive

    with torch.random.fork_rng(devices=[]), torch.autograd.graph.saved_tensors_hooks(note, lambda value: value):
        decoder.train()
        stream = learned_stream(decoder, pack([(*ids, 0)], [(False, *[True] * len(ids))]))
        decoder.eval()
        del stream
    give_back()
    return sum(kept.values())


def _storage(value: Tensor) -> int:
    return value.untyped_storage().data_ptr()


@dataclass(frozen=True)
class Memory:
    """Bytes at the peak of a training, by part; what is always there comes first."""

    weights: float
    adapter: float
    optimiser: float
    activations: float
    logits: float
    scratch: float
    overhead: float

    @property
    def peak(self) -> float:
        """Bytes of all parts, above what the process holds before a base is opened."""
        return self.known + self.overhead

    @property
    def known(self) -> float:
        """Bytes of the parts that follow from shapes; `overhead` is the allocator's gaps, and libraries' buffers."""
        return self.weights + self.adapter + self.optimiser + self.activations + self.logits + self.scratch


def memory_of(
    decoder: Decoder, adapter: Adapter, settings: TrainSettings, cost: PassCost, steps: Sequence[Sequence[Batch]]
) -> Memory:
    """Return the peak of a training whose largest pass is among those of these steps."""
    passes = [one for step in steps for one in step]
    sizes = [_n_bytes(value) for value in adapter.parameters]
    trained, added = sum(sizes), sum(map(_n_bytes, adapter.tensors().values()))
    weights = sum(map(_n_bytes, (*decoder.parameters(), *decoder.buffers()))) - added
    # The gradient of a step's first pass comes as its activations go, but for what is trained whole.
    whole = sum(_n_bytes(module.weight) for module in adapter.full.values())
    gradient = trained if max(map(len, steps)) > 1 else whole
    largest = max(passes, key=cost.of)
    activations, size = cost.of(largest), decoder.norm.weight.element_size()
    n_tokens, spec = largest.ids.numel(), decoder.spec
    if settings.recompute:
        activations = activations / spec.n_layers + spec.n_layers * n_tokens * spec.d_model * size
    n_learned = max(piece.n_learned for piece in passes)
    n_rows = min(n_learned, rows_at_once(spec.vocab_size))
    # Logits are in float32 or wider; narrower ones stand beside them while they are made.
    logits = n_rows * spec.vocab_size * (size if size >= 4 else 4 + size) + 2 * n_learned * spec.d_model * size
    return Memory(
        weights,
        added + gradient,
        (2 + bool(settings.averaging)) * trained,
        activations,
        logits,
        # On the way back, or for AdamW and what it moves from, when there are no activations any more.
        max(
            _back_scratch(decoder, n_tokens, size),
            2 * max(sizes),
            2 * trained - gradient + 2 * max(sizes) - activations - logits,
        ),
        _BUFFERS + _GAPS * activations,
    )


def _n_bytes(value: Tensor) -> int:
    return value.numel() * value.element_size()


def _back_scratch(decoder: Decoder, n_tokens: int, size: int) -> float:
    """Return bytes that stand for a moment on the way back: gradients within an MLP, and a held matrix expanded."""
    spec = decoder.spec
    within = n_tokens * (4 * spec.d_ff + 3 * spec.d_model) * size
    held = [module for module in decoder.modules() if isinstance(module, Held)]
    return within + max((module.rows_at_once(n_tokens) * module.width * size for module in held), default=0)
