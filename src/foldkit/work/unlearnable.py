"""Learned tokens that a base cannot tell from others, so that no adapter of its layers can teach them."""

from __future__ import annotations

import json
from typing import TYPE_CHECKING

import numpy as np

from foldkit.formats import listed

if TYPE_CHECKING:
    from .parts import Parts

# The tokens that are learned most often are looked at: with each a row of the head is compared with all others.
_MOST = 2048
# A token of which no more is possible is told.
_LIKELY = 0.5
_NAMED = 5


def unlearnable_notes(parts: Parts) -> list[str]:
    """Say which learned tokens stay unlikely whatever is trained, and what the loss of all cannot fall below.

    Nothing where there are none, or where the head is trained. The base must not be divided yet.
    """
    import torch

    from foldkit.models import highest_probabilities

    decoder = parts.base.decoder
    trained = "embedding" if decoder.head is None else "head"
    if trained in parts.sheet.adapter.full:
        return []
    ids, counts = parts.dataset.parts["train"].learned_ids()
    often = np.argsort(-counts, kind="stable")[:_MOST]
    highest = highest_probabilities(decoder, torch.from_numpy(ids[often]).long().to(decoder.device)).cpu().numpy()
    found = [(ids[at], counts[at], p) for at, p in zip(often, highest, strict=True) if p <= _LIKELY]
    if not found:
        return []
    named = [f"{_shown(parts, token)} ({n:,} times, at most {p:.2g})" for token, n, p in found]
    what = "learned tokens that the base cannot tell from others stay unlikely, whatever an adapter does"
    floor = sum(-n * np.log(p) for _, n, p in found) / counts.sum()
    loss = "" if parts.sheet.train.paired else f"; the loss stays above {floor:.2g}"
    return [f'{what}: {listed(named, _NAMED)}{loss}; adapter.full=["{trained}"] trains them']


def _shown(parts: Parts, token: int) -> str:
    return json.dumps(parts.tokenizer.decode([token], keep_control=True), ensure_ascii=False)
