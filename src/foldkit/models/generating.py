"""New ids for prompts, many at a time: what their prompts share is computed once, finished rows leave the batch."""

from __future__ import annotations

from collections.abc import Iterator, Sequence

import torch
from torch import Tensor

from .batch import WORTH_SHARING, n_alike
from .cache import Cache
from .decoder import Decoder
from .likelihood import token_log_probs
from .quick import quick_layers
from .sampling import Sampling, choose


class Reading:
    """Prompts read into a cache, padded on the left, so that given replies or new tokens can follow them.

    `room` is how many tokens may follow. Raises ValueError for an empty prompt and for prompts that with these would
    not fit into the decoder's positions.
    """

    @torch.inference_mode()
    def __init__(self, decoder: Decoder, prompts: Sequence[Sequence[int]], room: int) -> None:
        longest, device = _longest(prompts, room, decoder.spec.max_positions), decoder.device
        ids, self.real = _left_padded(prompts, longest, device)
        self.decoder, self.prompts, self.n_tokens = decoder, prompts, longest
        self.cache = Cache(decoder.spec, len(prompts), longest + room - 1, decoder.dtype, device)
        positions = (self.real.cumsum(1) - 1).clamp(min=0)
        n_ready = _fill_shared(decoder, prompts, longest, self.cache)
        mask = _prompt_mask(self.real, n_ready)
        stream = decoder(ids[:, n_ready:], positions=positions[:, n_ready:], mask=mask, cache=self.cache)
        self.last, self.positions = stream[:, -1], positions[:, -1:]

    @torch.inference_mode()
    def losses(self, replies: Sequence[Sequence[int]]) -> tuple[list[list[float]], list[list[bool]]]:
        """Return the loss (nats) of every token of a reply to each prompt, and which were the likeliest.

        What the cache holds of the prompts stays, so this may come several times, before new tokens.
        """
        n_most, n_prompts, device = max(map(len, replies)), len(replies), self.decoder.device
        table = torch.zeros(n_prompts, n_most, dtype=torch.long, device=device)
        given = torch.zeros(n_prompts, n_most, dtype=torch.bool, device=device)
        for index, reply in enumerate(replies):
            table[index, : len(reply)], given[index, : len(reply)] = torch.tensor(reply), True
        before = self.last[:, None]
        if n_most > 1:
            causal = torch.ones(n_most - 1, n_most - 1, dtype=torch.bool, device=device).tril()
            seen = self.real[:, None].expand(-1, n_most - 1, -1), causal.expand(n_prompts, -1, -1)
            places = self.positions + 1 + torch.arange(n_most - 1, device=device)
            mask = torch.cat(seen, dim=2)[:, None]
            stream = self.decoder(table[:, :-1], positions=places, mask=mask, cache=self.cache)
            self.cache.length = self.n_tokens
            before = torch.cat((before, stream), dim=1)
        log_probs, hits = token_log_probs(self.decoder, before[given], table[given])
        sizes = list(map(len, replies))
        found, right = torch.split(-log_probs, sizes), torch.split(hits, sizes)
        return [part.tolist() for part in found], [part.tolist() for part in right]


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
    return generate_after(Reading(decoder, prompts, max_tokens), end_ids, max_tokens, sampling, places=places)


def generate_after(
    reading: Reading,
    end_ids: Sequence[int],
    max_tokens: int,
    sampling: Sampling | None = None,
    *,
    places: Sequence[int] | None = None,
) -> list[list[int]]:
    """Return the new ids after prompts that are read already, which are used up by it; otherwise as `generate`."""
    answers: list[list[int]] = [[] for _ in reading.prompts]
    for index, token in _stream(reading, end_ids, max_tokens, sampling, places):
        answers[index].append(token)
    return answers


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
    yield from _stream(Reading(decoder, prompts, max_tokens), end_ids, max_tokens, sampling, places)


@torch.inference_mode()
def _stream(
    reading: Reading,
    end_ids: Sequence[int],
    max_tokens: int,
    sampling: Sampling | None,
    places: Sequence[int] | None,
) -> Iterator[tuple[int, int]]:
    decoder, cache, prompts = reading.decoder, reading.cache, reading.prompts
    sampling, device = sampling or Sampling(), decoder.device
    draws = [sampling.draws(place) for place in (range(len(prompts)) if places is None else places)]
    live = torch.arange(len(prompts), device=device)
    last, positions, real = reading.last, reading.positions, reading.real
    before, layers = [list(prompt) for prompt in prompts], quick_layers(decoder)
    for n_done in range(max_tokens):
        rows = live.tolist()
        chosen = choose(decoder.logits(last), sampling, [draws[row] for row in rows], [before[row] for row in rows])
        going = torch.tensor([token not in end_ids for token in chosen.tolist()], device=device)
        if not bool(going.all()):
            kept = going.nonzero()[:, 0]
            cache.pick_rows(kept)
            live, chosen, positions, real = live[kept], chosen[kept], positions[kept], real[kept]
        for row, token in zip(live.tolist(), chosen.tolist(), strict=True):
            before[row].append(token)
            yield row, token
        if not len(live) or n_done == max_tokens - 1:
            return
        positions = positions + 1
        real = torch.cat((real, torch.ones_like(real[:, :1])), dim=1)
        mask = None if bool(real.all()) else real[:, None, None, :]
        last = decoder(chosen[:, None], positions=positions, mask=mask, cache=cache, layers=layers)[:, -1]


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
    if len(prompts) == 1 or n_shared < WORTH_SHARING:
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
    return min(n_alike(first, last), *(len(prompt) - 1 for prompt in prompts))


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
