"""Attention in each piece of a row and what stands before it, with a way back written by hand, for training on a CPU.

Where pieces see few keys their weights are made whole and kept, those of pieces of about one size in one product: heads
of a group are its rows, and a key has the gradient of all of them at once. Where a piece sees many, PyTorch's own
attention keeps a number a query. Where products are bounded, that of `bounded_attention` keeps nothing.

With P = softmax(s Q K' + mask) and O = P V: the gradient to V is P' dO; with dS the gradient through the softmax of
dO V', that to Q is s dS K and that to K is s dS' Q (chain rule; Dao et al. 2022, appendix B.2); with bounded products
dS is multiplied by the slope of the bound first.
"""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any, NamedTuple

import torch
from torch import Tensor

from .bounded_attention import Bound, bounded, bounded_back, softmax_back
from .piece import with_before
from .piece_groups import Group
from .pieces import Pieces

# What PyTorch's attention calls on a CPU, and its way back, with the sums that the second needs of the first.
_attention = torch.ops.aten._scaled_dot_product_flash_attention_for_cpu.default
_attention_back = torch.ops.aten._scaled_dot_product_flash_attention_for_cpu_backward.default


class Heads(NamedTuple):
    """How many heads queries have, and keys; the size of each; what products are multiplied by, and bounded by or 0."""

    n: int
    n_kv: int
    size: int
    scale: float
    cap: float

    def bound(self, mask: Tensor | None) -> Bound:
        """Return how products are bounded where a mask says what is seen, or None for plain causal."""
        return Bound(self.scale, self.cap, mask is None)


class _Parts(NamedTuple):
    """Views of each piece of heads (tokens, n + 2 n_kv, size).

    queries: (tokens, n_kv, group, size) each; both, keys and values: (2, n_kv, tokens, size) each.
    """

    queries: Sequence[Tensor]
    both: Sequence[Tensor]

    def seen(self, index: int, pieces: Pieces) -> tuple[Tensor, Tensor]:
        """Return the keys and the values that a piece sees, (n_kv, keys, size) each."""
        keys, values = with_before(self.both, index, pieces.pieces[index])
        return keys, values


def _parted(of: Heads, heads: Tensor, pieces: Pieces) -> _Parts:
    query, both = heads.split_with_sizes((of.n, 2 * of.n_kv), dim=1)
    both = both.view(len(heads), 2, of.n_kv, of.size).permute(1, 2, 0, 3)
    return _Parts(_by_piece(of, query, pieces), both.split_with_sizes(pieces.sizes, dim=2))


def _by_piece(of: Heads, rows: Tensor, pieces: Pieces) -> Sequence[Tensor]:
    """Return a view of each piece of queries, or of mixed values, (tokens, n_kv, group, size) each."""
    return rows.view(len(rows), of.n_kv, -1, of.size).split_with_sizes(pieces.sizes)


def attend_heads(of: Heads, heads: Tensor, pieces: Pieces) -> tuple[Tensor, list[Tensor | None]]:
    """Return the mixed values (tokens, n * size) of heads (tokens, n + 2 n_kv, size), and what the way back needs.

    Queries, keys and values stand one after the other among heads.
    """
    groups, kept = pieces.groups.groups, list[Tensor | None]()
    sizes = [len(group.queries) for group in groups]
    found = heads.new_empty(sum(sizes), of.size)
    for group, mixed in zip(groups, found.split_with_sizes(sizes), strict=True):
        kept.append(_short(of, heads.view(-1, of.size), group, mixed))
    together = pieces.groups.mixed.of(found).view(len(heads), -1)
    if pieces.long:
        kept += _attend_long(of, heads, together, pieces)
    return together, kept


def _attend_long(of: Heads, heads: Tensor, mixed: Tensor, pieces: Pieces) -> list[Tensor | None]:
    """Put what long pieces give in their rows of mixed values; return what the way back needs of each."""
    parts, outs, kept = _parted(of, heads, pieces), _by_piece(of, mixed, pieces), list[Tensor | None]()
    for number in pieces.long:
        out, sums = _long(of, parts.queries[number], *parts.seen(number, pieces), pieces.masks[number])
        outs[number].copy_(out)
        kept.append(sums)
    return kept


def attend_heads_back(
    of: Heads, heads: Tensor, mixed: Tensor, kept: Sequence[Any], to_mixed: Tensor, pieces: Pieces
) -> Tensor:
    """Return the gradient to heads, (tokens, n + 2 n_kv, size), from the one to mixed values."""
    groups = pieces.groups.groups
    sizes = [len(group.queries) + len(group.seen) for group in groups]
    found = heads.new_empty(sum(sizes), of.size)
    for group, weights, part in zip(groups, kept, found.split_with_sizes(sizes), strict=False):
        _short_back(of, heads.view(-1, of.size), to_mixed.view(-1, of.size), group, weights, part)
    to_heads = pieces.groups.heads.of(found).view_as(heads)
    if pieces.long:
        _attend_long_back(of, heads, mixed, kept[len(groups) :], to_mixed, to_heads, pieces)
    return to_heads


def _attend_long_back(
    of: Heads,
    heads: Tensor,
    mixed: Tensor,
    kept: Sequence[Tensor | None],
    to_mixed: Tensor,
    to_heads: Tensor,
    pieces: Pieces,
) -> None:
    """Add the gradients that come from long pieces to those to heads."""
    parts, to_parts = _parted(of, heads, pieces), _parted(of, to_heads, pieces)
    outs, to_outs = _by_piece(of, mixed, pieces), _by_piece(of, to_mixed, pieces)
    for number, sums in zip(pieces.long, kept, strict=True):
        given = to_outs[number], parts.queries[number], *parts.seen(number, pieces), outs[number], sums
        to_query, to_seen = _long_back(of, *given, pieces.masks[number])
        to_parts.queries[number].copy_(to_query)
        piece, start = pieces.pieces[number], 0
        for other, n in (*piece.before, (number, piece.n_tokens)):
            to_parts.both[other][:, :, :n].add_(to_seen[:, :, start : start + n])
            start += n


class _Sides(NamedTuple):
    """What the products of a group are made of.

    queries: (pieces * n_kv, queries * group, size); keys, values: (pieces * n_kv, keys, size).
    """

    queries: Tensor
    keys: Tensor
    values: Tensor


def _sides(of: Heads, rows: Tensor, group: Group) -> _Sides:
    n = len(group.numbers) * of.n_kv
    keys, values = rows.index_select(0, group.seen).view(2, n, -1, of.size)
    return _Sides(rows.index_select(0, group.queries).view(n, -1, of.size), keys, values)


def _short(of: Heads, rows: Tensor, group: Group, mixed: Tensor) -> Tensor:
    """Put in `mixed` what the queries of a group give, rows of size; return the weights.

    The weights are (pieces * n_kv, queries * group, keys).
    """
    queries, keys, values = _sides(of, rows, group)
    masks = group.mask.expand(-1, of.n_kv, -1, of.n // of.n_kv, -1)
    weights = masks.clone(memory_format=torch.contiguous_format).view(*queries.shape[:2], -1)
    if of.cap:
        weights.add_(_bounds(of, queries, keys), alpha=of.cap)
    else:
        weights.baddbmm_(queries, keys.transpose(1, 2), alpha=of.scale)
    torch.softmax(weights, -1, out=weights)
    torch.bmm(weights, values, out=mixed.view_as(queries))
    return weights


def _short_back(of: Heads, rows: Tensor, to_mixed: Tensor, group: Group, weights: Tensor, found: Tensor) -> None:
    """Put in `found` the gradients to the queries of a group, and to what is seen, rows of size."""
    queries, keys, values = _sides(of, rows, group)
    to_rows = to_mixed.index_select(0, group.mixed).index_fill_(0, group.padding, 0.0).view_as(queries)
    to_queries, to_seen = found.split_with_sizes([len(group.queries), len(group.seen)])
    to_keys, to_values = to_seen.view(2, *keys.shape)
    nothing = keys.new_empty(1)
    torch.bmm(weights.transpose(1, 2), to_rows, out=to_values)
    to_products = softmax_back(torch.bmm(to_rows, values.transpose(1, 2)), weights, -1, weights.dtype)
    if of.cap:
        to_products.mul_(1 - _bounds(of, queries, keys).square_())
    torch.baddbmm(nothing, to_products.transpose(1, 2), queries, beta=0, alpha=of.scale, out=to_keys)
    torch.baddbmm(nothing, to_products, keys, beta=0, alpha=of.scale, out=to_queries.view_as(queries))


def _bounds(of: Heads, queries: Tensor, keys: Tensor) -> Tensor:
    """Return the products of a group, over their bound, and bounded by 1."""
    return torch.bmm(queries, keys.transpose(1, 2)).mul_(of.scale / of.cap).tanh_()


def _long(of: Heads, query: Tensor, keys: Tensor, values: Tensor, mask: Tensor | None) -> tuple[Tensor, Tensor | None]:
    """Return the mixed values as (tokens, n_kv, group, size), and the logarithms of the sums of the softmax.

    The latter are not kept where products are bounded.
    """
    by_head = query.permute(1, 2, 0, 3)
    if of.cap:
        return bounded(by_head, keys, values, mask, of.bound(mask)).permute(2, 0, 1, 3), None
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
    sums: Tensor | None,
    mask: Tensor | None,
) -> tuple[Tensor, Tensor]:
    """Return the gradients to the query, in its shape, and to keys and values, (2, n_kv, keys, size)."""
    to_out, by_head, out = (part.permute(1, 2, 0, 3) for part in (to_out, query, out))
    if of.cap:
        to_query, *to_seen = bounded_back(to_out, by_head, keys, values, mask, of.bound(mask))
        return to_query.permute(2, 0, 1, 3), torch.stack(to_seen)
    given = to_out, by_head, *_of_groups(by_head, keys, values), out, sums, 0.0, mask is None
    to_query, *to_seen = _attention_back(*given, attn_mask=mask, scale=of.scale)
    return to_query.permute(2, 0, 1, 3), torch.stack([one.sum(1) for one in to_seen])


def _of_groups(query: Tensor, *seen: Tensor) -> list[Tensor]:
    """Return keys or values as (n_kv, group, keys, size), the same for all of a group."""
    return [one[:, None].expand(-1, query.shape[1], -1, -1) for one in seen]
