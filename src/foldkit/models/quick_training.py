"""Layers of the commonest form as one node of the graph each, their way back written by hand, for training on a CPU.

What a step takes besides its products is in good part calls: the nodes of a graph, and the copies it makes to put the
gradients of parts together. The form is that of `quick`; low-rank pairs, where there are any, are trained.
"""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from typing import Any, NamedTuple, cast

import torch
from torch import Tensor, nn
from torch.nn import functional

from .cache import Slot
from .decoder import Angles, Decoder, Layer, of_wanted
from .held import Matrix, add_times, times_back
from .linear import holds
from .norms import rms_norm_back, root_of
from .pairs import Pair, add_pairs, pairs_back
from .piece_attention import Heads, attend_heads, attend_heads_back
from .pieces import Pieces
from .quick import is_common, norm_weight, parts_of


class Side(NamedTuple):
    """Maps of one input: how many outputs each has, and which of them have a low-rank pair.

    `matrices` are one for all maps, where their weights stand side by side, or one for each.
    """

    matrices: tuple[Matrix, ...]
    bias: Tensor | None
    sizes: tuple[int, ...]
    paired: tuple[bool, ...]

    def with_matrices(self, y: Tensor) -> Iterable[tuple[Tensor, Matrix]]:
        """Return what each matrix gives of y (n, d_out), beside it."""
        parts = (y,) if len(self.matrices) == 1 else y.split_with_sizes(self.sizes, dim=1)
        return zip(parts, self.matrices, strict=True)


class TrainingLayer(NamedTuple):
    """The numbers of a layer and the pairs that are trained. Called as the layer is on a row of pieces."""

    heads: Heads
    eps: float
    attention_norm: Tensor
    mlp_norm: Tensor
    sides: tuple[Side, ...]
    factors: tuple[Tensor, ...]

    def __call__(
        self, x: Tensor, seq: int, angles: Angles, mask: Pieces, slot: Slot | None, wanted: Tensor | None = None
    ) -> Tensor:
        """Map the stream (tokens, d_model) to the same shape, or to its wanted rows alone."""
        out: Tensor = _Layer.apply(self, angles, mask, wanted, x, *self.factors)  # type: ignore[no-untyped-call]
        return out

    def dealt(self, factors: Sequence[Tensor]) -> list[list[Pair | None]]:
        """Return the pair of each map of each side, None where it has none."""
        left = iter(factors)
        return [[(next(left), next(left)) if has else None for has in side.paired] for side in self.sides]


class _Layer(torch.autograd.Function):
    @staticmethod
    def forward(
        ctx: Any,
        layer: TrainingLayer,
        angles: Angles,
        pieces: Pieces,
        wanted: Tensor | None,
        x: Tensor,
        *factors: Tensor,
    ) -> Tensor:
        qkv, out, gate_up, down = zip(layer.sides, layer.dealt(factors), strict=True)
        root = root_of(x, layer.eps)
        normed = (x * root).mul_(layer.attention_norm)
        mapped, low_qkv = _mapped(normed, *qkv)
        heads = mapped.view(len(x), -1, layer.heads.size)
        _turn(layer.heads, heads, angles, 1)
        mixed, kept = attend_heads(layer.heads, heads, pieces)
        x_2, low_out = _mapped(of_wanted(mixed, wanted), *out, onto=of_wanted(x, wanted))
        root_2 = root_of(x_2, layer.eps)
        normed_2 = (x_2 * root_2).mul_(layer.mlp_norm)
        both, low_up = _mapped(normed_2, *gate_up)
        gate, up = both.chunk(2, dim=1)
        y, low_down = _mapped(functional.silu(gate).mul_(up), *down, onto=x_2)
        ctx.layer, ctx.angles, ctx.pieces, ctx.wanted, ctx.n_kept = layer, angles, pieces, wanted, len(kept)
        lows = low_qkv, low_out, low_up, low_down
        ctx.save_for_backward(x, root, normed, heads, mixed, x_2, root_2, normed_2, both, *lows, *kept, *factors)
        return y

    @staticmethod
    def backward(ctx: Any, *gradients: Tensor) -> tuple[Tensor | None, ...]:
        layer, pieces, wanted, (to_y,) = ctx.layer, ctx.pieces, ctx.wanted, gradients
        x, root, normed, heads, mixed, x_2, root_2, normed_2, both, *rest = ctx.saved_tensors
        low_qkv, low_out, low_up, low_down, *rest = rest
        kept, factors = rest[: ctx.n_kept], rest[ctx.n_kept :]
        qkv, out, gate_up, down = zip(layer.sides, layer.dealt(factors), strict=True)

        to_normed, of_mlp = _gated_back(to_y, both, normed_2, (low_up, low_down), gate_up, down)
        to_x_2 = rms_norm_back(to_normed, x_2, layer.mlp_norm, root_2, onto=to_y)

        to_mixed, of_out = _mapped_back(to_x_2, of_wanted(mixed, wanted), low_out, *out)
        to_mixed = _spread(to_mixed, wanted, len(x))
        to_heads = attend_heads_back(layer.heads, heads, mixed, kept, to_mixed, pieces)
        _turn(layer.heads, to_heads, ctx.angles, -1)
        to_normed, of_qkv = _mapped_back(to_heads.flatten(1), normed, low_qkv, *qkv)
        to_x = rms_norm_back(to_normed, x, layer.attention_norm, root, onto=_spread(to_x_2, wanted, len(x)))
        return None, None, None, None, to_x, *of_qkv, *of_out, *of_mlp


def _gated_back(
    to_y: Tensor,
    both: Tensor,
    normed: Tensor,
    lows: tuple[Tensor | None, Tensor | None],
    gate_up: tuple[Side, Sequence[Pair | None]],
    down: tuple[Side, Sequence[Pair | None]],
) -> tuple[Tensor, list[Tensor]]:
    """Return the gradients to the normed stream, and to the factors of gate, up and down.

    The gradients to what gate and up gave, the largest numbers of a layer, take their place.
    """
    gate, up = both.chunk(2, dim=1)
    silu = functional.silu(gate)
    hidden = silu * up
    to_hidden, of_down = _mapped_back(to_y, hidden, lows[1], *down)
    to_silu = torch.mul(to_hidden, up, out=hidden)
    torch.mul(to_hidden, silu, out=up)
    torch.ops.aten.silu_backward.grad_input(to_silu, gate, grad_input=gate)
    to_normed, of_up = _mapped_back(both, normed, lows[0], *gate_up)
    return to_normed, [*of_up, *of_down]


def _spread(rows: Tensor, wanted: Tensor | None, n_rows: int) -> Tensor:
    """Return the gradient to all rows from the one to the wanted ones."""
    return rows if wanted is None else rows.new_zeros(n_rows, rows.shape[1]).index_add_(0, wanted, rows)


def _mapped(
    x: Tensor, side: Side, pairs: Sequence[Pair | None], onto: Tensor | None = None
) -> tuple[Tensor, Tensor | None]:
    """Return what maps give for x (n, d_in), added to `onto`, and the products x A', side by side."""
    y = x.new_empty(len(x), sum(side.sizes)) if onto is None else onto.clone()
    for part, matrix in side.with_matrices(y):
        add_times(x, matrix, part, beta=int(onto is not None))
    if side.bias is not None:
        y.add_(side.bias)
    parts, own = _paired(y, side, pairs)
    return y, add_pairs(parts, x, own) if own else None


def _mapped_back(
    to_y: Tensor, x: Tensor, low: Tensor | None, side: Side, pairs: Sequence[Pair | None]
) -> tuple[Tensor, list[Tensor]]:
    """Return the gradients to x, and to A and B of each pair in turn."""
    parts, own = _paired(to_y, side, pairs)
    to_x, factors = (torch.zeros_like(x), []) if low is None else pairs_back(parts, x, low, own)
    for part, matrix in side.with_matrices(to_y):
        times_back(part, matrix, to_x)
    return to_x, factors


def _paired(y: Tensor, side: Side, pairs: Sequence[Pair | None]) -> tuple[list[Tensor], list[Pair]]:
    """Return the parts of y (n, d_out) that have a pair, and these pairs."""
    parts = zip(y.split_with_sizes(side.sizes, dim=1), pairs, strict=True)
    own = [(part, pair) for part, pair in parts if pair]
    return [part for part, _ in own], [pair for _, pair in own]


def _turn(of: Heads, heads: Tensor, angles: Angles, sign: int) -> None:
    """Turn queries and keys among heads (tokens, heads, head_dim) in place, as `rotate` does; with sign -1 back."""
    if angles is None:
        return
    cos, sin = (factor[0, 0, :, None] for factor in angles)
    half = cos.shape[-1] // 2
    first, second = heads[:, : of.n + of.n_kv, : 2 * half].chunk(2, dim=-1)
    cos, sin = cos[..., :half], sin[..., half:]
    of_first = first * sin
    first.mul_(cos).addcmul_(second, sin, value=-sign)
    second.mul_(cos).add_(of_first, alpha=sign)


def training_layers(decoder: Decoder) -> list[nn.Module | TrainingLayer]:
    """Return the layers as they are now, those of the form as single nodes; for rows of pieces."""
    spec, layers = decoder.spec, cast("list[Layer]", list(decoder.layers))
    fits = is_common(spec) and not spec.attention_cap and spec.residual_scale == 1
    if not fits or decoder.device.type != "cpu" or decoder.dtype == torch.bfloat16:
        return list(layers)
    return [_training_layer(decoder, layer) or layer for layer in layers]


def _training_layer(decoder: Decoder, layer: Layer) -> TrainingLayer | None:
    attention, mlp, spec = layer.attention, layer.mlp, decoder.spec
    together = (
        (attention.joined, (attention.query, attention.key, attention.value)),
        (None, (attention.out,)),
        (mlp.joined, (mlp.gate, mlp.up)),
        (None, (mlp.down,)),
    )
    sides, factors = [], list[Tensor]()
    for joined, maps in together:
        found = _side(joined, maps)
        if found is None:
            return None
        sides.append(found[0])
        factors += found[1]
    norms = norm_weight(layer.attention_norm), norm_weight(layer.mlp_norm)
    heads = Heads(spec.n_heads, spec.n_kv_heads, spec.head_dim, attention.scale)
    return TrainingLayer(heads, spec.norm_eps, *norms, tuple(sides), tuple(factors))


def _side(joined: Tensor | None, maps: Sequence[nn.Module | None]) -> tuple[Side, list[Tensor]] | None:
    """Return maps of one input and their factors, None where they are more than products and a bias.

    None too where plain weights stand apart: those of a sharded base are gathered only as its layers are called.
    """
    parts = [one for one in map(parts_of, maps) if one]
    matrices: tuple[Matrix, ...] = tuple(one.matrix for one in parts)
    plain = [matrix for matrix in matrices if isinstance(matrix, Tensor)]
    if len(parts) < len(maps) or any(matrix.requires_grad for matrix in plain):
        return None
    if len(maps) > 1 and plain:
        if joined is None or not holds(joined, plain[0]):
            return None
        matrices = (joined,)
    biases = [one.bias for one in parts if one.bias is not None]
    sizes, paired = tuple(one.n_outputs for one in parts), tuple(one.factor_a is not None for one in parts)
    factors = [factor for one in parts for factor in one[2:] if factor is not None]
    return Side(matrices, torch.cat(biases) if biases else None, sizes, paired), factors
