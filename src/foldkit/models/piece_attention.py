"""Attention in each piece of a row and what stands before it, with a way back written by hand, for training on a CPU.

Where a piece sees few keys its weights are made whole and kept: heads of a group are the rows of one product then, and
a key has the gradient of all of them at once. Where it sees many, PyTorch's own attention keeps a number a query.

With P = softmax(s Q K' + mask) and O = P V: the gradient to V is P' dO; with dS the gradient through the softmax of
dO V', that to Q is s dS K and that to K is s dS' Q (chain rule; Dao et al. 2022, appendix B.2).
"""

from __future__ import annotations

from collections.abc import Sequence
from typing import NamedTuple

import torch
from torch import Tensor

from .attention import Pieces, with_before

# What PyTorch's attention calls on a CPU, and its way back, with the sums that the second needs of the first.
_attention = torch.ops.aten._scaled_dot_product_flash_attention_for_cpu.default
_attention_back = torch.ops.aten._scaled_dot_product_flash_attention_for_cpu_backward.default
_softmax_back = torch.ops.aten._softmax_backward_data


class Heads(NamedTuple):
    """How many heads queries have, and keys; the size of each; what products are multiplied by."""

    n: int
    n_kv: int
    size: int
    scale: float


class _Parts(NamedTuple):
    """Views of each piece of heads (tokens, n + 2 n_kv, size).

    queries: (tokens, n_kv, group, size) each; both, keys and below them values: (2 n_kv, tokens, size) each.
    """

    queries: Sequence[Tensor]
    both: Sequence[Tensor]

    def seen(self, index: int, pieces: Pieces) -> tuple[Tensor, Tensor]:
        """Return the keys and the values that a piece sees, (n_kv, keys, size) each."""
        keys, values = with_before(self.both, index, pieces.pieces[index]).chunk(2)
        return keys, values


def _parted(of: Heads, heads: Tensor, pieces: Pieces) -> _Parts:
    query, both = heads.split_with_sizes((of.n, 2 * of.n_kv), dim=1)
    return _Parts(_by_piece(of, query, pieces), both.transpose(0, 1).split_with_sizes(pieces.sizes, dim=1))


def _by_piece(of: Heads, rows: Tensor, pieces: Pieces) -> Sequence[Tensor]:
    """Return a view of each piece of queries, or of mixed values, (tokens, n_kv, group, size) each."""
    return rows.view(len(rows), of.n_kv, -1, of.size).split_with_sizes(pieces.sizes)


def attend_heads(of: Heads, heads: Tensor, pieces: Pieces) -> tuple[Tensor, list[Tensor]]:
    """Return the mixed values (tokens, n * size) of heads (tokens, n + 2 n_kv, size), and what the way back needs.

    Queries, keys and values stand one after the other among heads.
    """
    mixed, kept, parts = heads.new_empty(len(heads), of.n * of.size), list[Tensor](), _parted(of, heads, pieces)
    outs = _by_piece(of, mixed, pieces)
    for index, (query, out) in enumerate(zip(parts.queries, outs, strict=True)):
        keys, values = parts.seen(index, pieces)
        small = pieces.small_masks[index]
        if small is None:
            found, more = _long(of, query, keys, values, pieces.masks[index])
        else:
            found, more = _short(of, query, keys, values, small)
        out.copy_(found)
        kept.append(more)
    return mixed, kept


def attend_heads_back(
    of: Heads, heads: Tensor, mixed: Tensor, kept: Sequence[Tensor], to_mixed: Tensor, pieces: Pieces
) -> Tensor:
    """Return the gradient to heads, (tokens, n + 2 n_kv, size), from the one to mixed values."""
    to_heads = torch.empty_like(heads)
    parts, to_parts = _parted(of, heads, pieces), _parted(of, to_heads, pieces)
    outs, to_outs = _by_piece(of, mixed, pieces), _by_piece(of, to_mixed, pieces)
    for index, piece in enumerate(pieces.pieces):
        given = to_outs[index], parts.queries[index], *parts.seen(index, pieces)
        if pieces.small_masks[index] is None:
            to_query, to_seen = _long_back(of, *given, outs[index], kept[index], pieces.masks[index])
        else:
            to_query, to_seen = _short_back(of, *given, kept[index])
        to_parts.queries[index].copy_(to_query)
        start = 0
        for other, n in piece.before:  # these have the gradient of their own queries already
            to_parts.both[other][:, :n].add_(to_seen[:, start : start + n])
            start += n
        to_parts.both[index].copy_(to_seen[:, start:])
    return to_heads


def _rows(query: Tensor) -> Tensor:
    """Return (tokens, n_kv, group, size) as rows of each group, (n_kv, tokens * group, size)."""
    return query.transpose(0, 1).flatten(1, 2)


def _by_token(of: Heads, rows: Tensor, n_tokens: int) -> Tensor:
    """Return rows of each group as (tokens, n_kv, group, size)."""
    return rows.view(of.n_kv, n_tokens, -1, of.size).transpose(0, 1)


def _short(of: Heads, query: Tensor, keys: Tensor, values: Tensor, mask: Tensor) -> tuple[Tensor, Tensor]:
    """Return the mixed values as (tokens, n_kv, group, size), and the weights, (n_kv, tokens * group, keys)."""
    weights = torch.baddbmm(keys.new_empty(1), _rows(query), keys.transpose(1, 2), beta=0, alpha=of.scale)
    weights.view(of.n_kv, len(query), -1, len(mask.T)).add_(mask[:, None])
    torch.softmax(weights, -1, out=weights)
    return _by_token(of, torch.bmm(weights, values), len(query)), weights


def _short_back(
    of: Heads, to_out: Tensor, query: Tensor, keys: Tensor, values: Tensor, weights: Tensor
) -> tuple[Tensor, Tensor]:
    """Return the gradients to the query, in its shape, and to keys and below them values, (2 n_kv, keys, size)."""
    rows, to_rows, to_seen = _rows(query), _rows(to_out), keys.new_empty(2 * of.n_kv, *keys.shape[1:])
    torch.bmm(weights.transpose(1, 2), to_rows, out=to_seen[of.n_kv :])
    to_products = _softmax_back(torch.bmm(to_rows, values.transpose(1, 2)), weights, -1, weights.dtype)
    to_products.mul_(of.scale)
    torch.bmm(to_products.transpose(1, 2), rows, out=to_seen[: of.n_kv])
    return _by_token(of, torch.bmm(to_products, keys), len(query)), to_seen


def _long(of: Heads, query: Tensor, keys: Tensor, values: Tensor, mask: Tensor | None) -> tuple[Tensor, Tensor]:
    """Return the mixed values as (tokens, n_kv, group, size), and the logarithms of the sums of the softmax."""
    by_head = query.permute(1, 2, 0, 3)
    shared = _of_groups(by_head, keys, values)
    found, sums = _attention(by_head, *shared, 0.0, mask is None, attn_mask=mask, scale=of.scale)
    return found.permute(2, 0, 1, 3), sums


def _long_back(
    of: Heads,
    to_out: Tensor,
    query: Tensor,
    keys: Tensor,
    values: Tensor,
    out: Tensor,
    sums: Tensor,
    mask: Tensor | None,
) -> tuple[Tensor, Tensor]:
    """Return what `_short_back` does."""
    to_out, by_head, out = (part.permute(1, 2, 0, 3) for part in (to_out, query, out))
    given = to_out, by_head, *_of_groups(by_head, keys, values), out, sums, 0.0, mask is None
    to_query, *to_seen = _attention_back(*given, attn_mask=mask, scale=of.scale)
    return to_query.permute(2, 0, 1, 3), torch.cat([one.sum(1) for one in to_seen])


def _of_groups(query: Tensor, *seen: Tensor) -> list[Tensor]:
    """Return keys or values as (n_kv, group, keys, size), the same for all of a group."""
    return [one[:, None].expand(-1, query.shape[1], -1, -1) for one in seen]
