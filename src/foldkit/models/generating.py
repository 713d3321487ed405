"""New ids for prompts, many at a time: what their prompts share is computed once, finished rows leave the batch."""

from __future__ import annotations

from collections.abc import Iterator, Sequence

import torch
from torch import Tensor

from .cache import Cache
from .decoder import Decoder
from .quick import quick_layers
from .sampling import Sampling, choose

# Fewer shared tokens than this are computed for every prompt: the copies would cost as much.
_WORTH_SHARING = 8


def generate(
    decoder: Decoder,
    prompts: Sequence[Sequence[int]],
    end_ids: Sequence[int],
    max_tokens: int,
    sampling: Sampling | None = None,
    *,
    places: Sequence[int] | None = None,
) -> list[list[int]]:
    """Return the new ids of each prompt, the end id left out.

    Each answer stops at an end id or after `max_tokens`. What a prompt draws depends on the seed and its place alone:
    its index here, or its number in `places`. Raises ValueError for an empty prompt and for a prompt that with its
    answer would not fit into the decoder's positions.
    """
    answers: list[list[int]] = [[] for _ in prompts]
    for index, token in stream(decoder, prompts, end_ids, max_tokens, sampling, places=places):
        answers[index].append(token)
    return answers


@torch.inference_mode()
def stream(
    decoder: Decoder,
    prompts: Sequence[Sequence[int]],
    end_ids: Sequence[int],
    max_tokens: int,
    sampling: Sampling | None = None,
    *,
    places: Sequence[int] | None = None,
) -> Iterator[tuple[int, int]]:
    """Yield (prompt index, new id) as the ids are found; otherwise as `generate`."""
    longest = _longest(prompts, max_tokens, decoder.spec.max_positions)
    sampling = sampling or Sampling()
    device = decoder.device
    ids, real = _left_padded(prompts, longest, device)
    cache = Cache(decoder.spec, len(prompts), longest + max_tokens - 1, decoder.dtype, device)
    draws = [sampling.draws(place) for place in (range(len(prompts)) if places is None else places)]
    live = torch.arange(len(prompts), device=device)
    positions = (real.cumsum(1) - 1).clamp(min=0)
    n_ready = _fill_shared(decoder, prompts, longest, cache)
    mask = _prompt_mask(real, n_ready)
    stream_out = decoder(ids[:, n_ready:], positions=positions[:, n_ready:], mask=mask, cache=cache)
    before, layers = [list(prompt) for prompt in prompts], quick_layers(decoder)
    for _ in range(max_tokens):
        rows = live.tolist()
        logits = decoder.logits(stream_out[:, -1])
        chosen = choose(logits, sampling, [draws[row] for row in rows], [before[row] for row in rows])
        going = torch.tensor([token not in end_ids for token in chosen.tolist()], device=device)
        if not bool(going.all()):
            kept = going.nonzero()[:, 0]
            cache.pick_rows(kept)
            live, chosen, positions, real = live[kept], chosen[kept], positions[kept], real[kept]
        for row, token in zip(live.tolist(), chosen.tolist(), strict=True):
            before[row].append(token)
            yield row, token
        if not len(live):
            return
        positions = positions[:, -1:] + 1
        real = torch.cat((real, torch.ones_like(real[:, :1])), dim=1)
        if cache.length < cache.room:
            mask = None if bool(real.all()) else real[:, None, None, :]
            stream_out = decoder(chosen[:, None], positions=positions, mask=mask, cache=cache, layers=layers)


def _longest(prompts: Sequence[Sequence[int]], max_tokens: int, max_positions: int) -> int:
    longest = max((len(prompt) for prompt in prompts), default=0)
    if not prompts or any(not prompt for prompt in prompts):
        raise ValueError("every prompt must have at least one token")
    if longest + max_tokens > max_positions:
        raise ValueError(
            f"{longest} prompt tokens and {max_tokens} new ones exceed the base's {max_positions} positions"
        )
    return longest


def _left_padded(prompts: Sequence[Sequence[int]], longest: int, device: torch.device) -> tuple[Tensor, Tensor]:
    ids = torch.zeros(len(prompts), longest, dtype=torch.long, device=device)
    real = torch.zeros(len(prompts), longest, dtype=torch.bool, device=device)
    for index, prompt in enumerate(prompts):
        ids[index, longest - len(prompt) :] = torch.tensor(prompt, device=device)
        real[index, longest - len(prompt) :] = True
    return ids, real


def _fill_shared(decoder: Decoder, prompts: Sequence[Sequence[int]], longest: int, cache: Cache) -> int:
    """Compute what all prompts begin with once and put it before the end of each; return how many columns are ready.

    In those columns a row holds as much of the shared tokens as stand before the longest remainder.
    """
    n_shared = _n_shared(prompts)
    if len(prompts) == 1 or n_shared < _WORTH_SHARING:
        return 0
    device = decoder.device
    shared = Cache(decoder.spec, 1, n_shared, decoder.dtype, device)
    decoder(torch.tensor([prompts[0][:n_shared]], device=device), cache=shared)
    for row, prompt in enumerate(prompts):
        first = longest - len(prompt)
        cache.copy_row(row, first, shared, n_shared - first)
    cache.length = n_shared
    return n_shared


def _n_shared(prompts: Sequence[Sequence[int]]) -> int:
    """Return how many first tokens all prompts have in common, at least one being left to each."""
    first, last = min(map(tuple, prompts)), max(map(tuple, prompts))
    most = min(len(prompt) for prompt in prompts) - 1
    return next((i for i, (a, b) in enumerate(zip(first, last, strict=False)) if a != b or i == most), most)


def _prompt_mask(real: Tensor, n_ready: int) -> Tensor | None:
    """Return the mask (batch, 1, seq - n_ready, seq) of a left-padded batch whose first columns are ready.

    A pad looks at itself, so that no row is empty.
    """
    if not n_ready and bool(real.all()):
        return None
    seq = real.shape[1]
    causal = torch.ones(seq, seq, dtype=torch.bool, device=real.device).tril()
    itself = torch.eye(seq, dtype=torch.bool, device=real.device)
    return ((causal & real[:, None, :]) | itself)[:, None, n_ready:]
