"""Layers of the commonest form as one node of the graph each, their way back written by hand, for training on a CPU.

What a step takes besides its products is in good part calls: the nodes of a graph, and the copies it makes to put the
gradients of parts together. The form is that of `quick`; low-rank pairs, where there are any, are trained.
"""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any, NamedTuple, cast

import torch
from torch import Tensor, nn

from .activating import activated, active_back, active_of
from .cache import Slot
from .decoder import Angles, Decoder, Layer, of_wanted
from .norms import rms_norm_back, root_of
from .pairs import Pair
from .piece_attention import Heads, attend_heads, attend_heads_back
from .pieces import Pieces
from .quick import after_norms, head_norm, is_common, norm_weight
from .random_state import drawing_from, random_state
from .side import Low, Side, kept_of, mapped, mapped_back, side_of


class TrainingLayer(NamedTuple):
    """The numbers of a layer and the pairs that are trained. Called as the layer is on a row of pieces.

    `head_norm` is of queries and keys, `after_norms` of what attention and MLP give, each None where there is none.
    With `recompute` it keeps what it is given alone.
    """

    recompute: bool
    heads: Heads
    activation: str
    residual_scale: float
    eps: float
    attention_norm: Tensor
    mlp_norm: Tensor
    head_norm: Tensor | None
    after_norms: tuple[Tensor | None, Tensor | None]
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
        ctx.layer, ctx.given, ctx.n_factors = layer, (angles, pieces, wanted), len(factors)
        ctx.random = random_state(x.device) if layer.recompute else None
        y, kept = _ahead(layer, angles, pieces, wanted, x, factors)
        ctx.save_for_backward(x, *factors, *(() if layer.recompute else kept))
        return y

    @staticmethod
    def backward(ctx: Any, *gradients: Tensor) -> tuple[Tensor | None, ...]:
        layer, (angles, pieces, wanted), (to_y,) = ctx.layer, ctx.given, gradients
        x, *rest = ctx.saved_tensors
        factors, kept = rest[: ctx.n_factors], rest[ctx.n_factors :]
        if layer.recompute:
            with drawing_from(ctx.random, x.device):
                _, kept = _ahead(layer, angles, pieces, wanted, x, factors, again=True)
        root, normed, heads, mixed, x_2, root_2, normed_2, both, *rest = kept
        kept_qkv, kept_out, kept_up, kept_down = (rest[place : place + 2] for place in range(0, 8, 2))
        before_heads, before_out, before_down, of_heads = rest[8:10], rest[10:12], rest[12:14], rest[14:]
        qkv, out, gate_up, down = zip(layer.sides, layer.dealt(factors), strict=True)

        to_down = _added_back(layer, to_y, before_down, 1)
        to_normed, of_mlp = _gated_back(layer.activation, to_down, both, normed_2, (kept_up, kept_down), gate_up, down)
        to_x_2 = rms_norm_back(to_normed, x_2, layer.mlp_norm, root_2, onto=to_y)

        to_out = _added_back(layer, to_x_2, before_out, 0)
        to_mixed, of_out = mapped_back(to_out, of_wanted(mixed, wanted), kept_out, *out)
        to_mixed = _spread(to_mixed, wanted, len(x))
        to_heads = attend_heads_back(layer.heads, heads, mixed, of_heads, to_mixed, pieces)
        _turn(layer.heads, to_heads, angles, -1)
        _norm_heads_back(layer, to_heads, before_heads)
        to_normed, of_qkv = mapped_back(to_heads.flatten(1), normed, kept_qkv, *qkv)
        to_x = rms_norm_back(to_normed, x, layer.attention_norm, root, onto=_spread(to_x_2, wanted, len(x)))
        return None, None, None, None, to_x, *of_qkv, *of_out, *of_mlp


def _ahead(
    layer: TrainingLayer,
    angles: Angles,
    pieces: Pieces,
    wanted: Tensor | None,
    x: Tensor,
    factors: Sequence[Tensor],
    *,
    again: bool = False,
) -> tuple[Tensor, Sequence[Any]]:
    """Return what the layer gives for x, and what its way back needs, which alone counts where it is `again`."""
    qkv, out, gate_up, down = zip(layer.sides, layer.dealt(factors), strict=True)
    root = root_of(x, layer.eps)
    normed = (x * root).mul_(layer.attention_norm)
    together, kept_qkv = mapped(normed, *qkv)
    heads = together.view(len(x), -1, layer.heads.size)
    before_heads = _norm_heads(layer, heads)
    _turn(layer.heads, heads, angles, 1)
    mixed, of_heads = attend_heads(layer.heads, heads, pieces)
    x_2, kept_out, before_out = _added(layer, of_wanted(mixed, wanted), *out, of_wanted(x, wanted), 0)
    root_2 = root_of(x_2, layer.eps)
    normed_2 = (x_2 * root_2).mul_(layer.mlp_norm)
    both, kept_up = mapped(normed_2, *gate_up)
    hidden = activated(both.chunk(2, dim=1), layer.activation)
    if again and layer.after_norms[1] is None:
        y, kept_down, before_down = x_2, kept_of(hidden, *down), _NO_NORM
    else:
        y, kept_down, before_down = _added(layer, hidden, *down, x_2, 1)
    lows, before = (*kept_qkv, *kept_out, *kept_up, *kept_down), (*before_heads, *before_out, *before_down)
    return y, (root, normed, heads, mixed, x_2, root_2, normed_2, both, *lows, *before, *of_heads)


def _gated_back(
    activation: str,
    to_y: Tensor,
    both: Tensor,
    normed: Tensor,
    lows: tuple[Low, Low],
    gate_up: tuple[Side, Sequence[Pair | None]],
    down: tuple[Side, Sequence[Pair | None]],
) -> tuple[Tensor, list[Tensor]]:
    """Return the gradients to the normed stream, and to the factors of gate, up and down.

    The gradients to what gate and up gave, the largest numbers of a layer, take their place.
    """
    gate, up = both.chunk(2, dim=1)
    active = active_of((gate,), activation)
    hidden = active * up
    to_hidden, of_down = mapped_back(to_y, hidden, lows[1], *down)
    to_active = torch.mul(to_hidden, up, out=hidden)
    torch.mul(to_hidden, active, out=up)
    active_back(to_active, gate, activation, gate)
    to_normed, of_up = mapped_back(both, normed, lows[0], *gate_up)
    return to_normed, [*of_up, *of_down]


def _spread(rows: Tensor, wanted: Tensor | None, n_rows: int) -> Tensor:
    """Return the gradient to all rows from the one to the wanted ones."""
    return rows if wanted is None else rows.new_zeros(n_rows, rows.shape[1]).index_add_(0, wanted, rows)


# What a norm was given and the root that it was divided by, None where there is no norm.
_Before = Sequence[Tensor | None]
_NO_NORM: _Before = (None, None)


def _added(
    layer: TrainingLayer, x: Tensor, side: Side, pairs: Sequence[Pair | None], onto: Tensor, place: int
) -> tuple[Tensor, Low, _Before]:
    """Return what maps give for x, with what the layer does to it, added to `onto`; place 0 is attention, 1 the MLP."""
    norm, scale = layer.after_norms[place], layer.residual_scale
    if norm is None and scale == 1:
        return *mapped(x, side, pairs, onto=onto), _NO_NORM
    given, low = mapped(x, side, pairs)
    if norm is None:
        return torch.add(onto, given, alpha=scale), low, _NO_NORM
    root = root_of(given, layer.eps)
    return torch.add(onto, (given * root).mul_(norm), alpha=scale), low, (given, root)


def _added_back(layer: TrainingLayer, to_y: Tensor, before: _Before, place: int) -> Tensor:
    """Return the gradient to what maps gave."""
    (given, root), norm = before, layer.after_norms[place]
    to_more = to_y if layer.residual_scale == 1 else to_y * layer.residual_scale
    return to_more if norm is None or given is None or root is None else rms_norm_back(to_more, given, norm, root)


def _norm_heads(layer: TrainingLayer, heads: Tensor) -> _Before:
    """Bring queries and keys among heads (tokens, heads, head_dim) to their norm in place, where they have one."""
    if layer.head_norm is None:
        return _NO_NORM
    normed = heads[:, : len(layer.head_norm)]
    given = normed.clone()
    root = root_of(given, layer.eps)
    torch.mul(given, root, out=normed).mul_(layer.head_norm)
    return given, root


def _norm_heads_back(layer: TrainingLayer, to_heads: Tensor, before: _Before) -> None:
    """Turn the gradient to what they became into the one to what was given, in place."""
    given, root = before
    if layer.head_norm is not None and given is not None and root is not None:
        to_normed = to_heads[:, : len(layer.head_norm)]
        to_normed.copy_(rms_norm_back(to_normed, given, layer.head_norm, root))


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
    if not is_common(spec) or decoder.device.type != "cpu" or decoder.dtype == torch.bfloat16:
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
        found = side_of(joined, maps)
        if found is None:
            return None
        sides.append(found[0])
        factors += found[1]
    norms = norm_weight(layer.attention_norm), norm_weight(layer.mlp_norm), head_norm(attention), after_norms(layer)
    heads = Heads(spec.n_heads, spec.n_kv_heads, spec.head_dim, attention.scale, attention.cap)
    return TrainingLayer(
        decoder.recompute,
        heads,
        spec.activation,
        spec.residual_scale,
        spec.norm_eps,
        *norms,
        tuple(sides),
        tuple(factors),
    )
