"""A matrix in 4-bit NormalFloat with double quantisation (Dettmers et al. 2023, sections 2 and 3, appendix E).

The rule, where the paper leaves it open. Blocks are 64 columns of one row; a width that is no multiple of 64 is filled
up with zeros. The constant of a block is its largest magnitude c. A number is the index of the table's value nearest to
weight / c, the lower index at a tie, and 7, the table's zero, where c is 0. The constants of the whole matrix, their
mean taken off, are held in 8 bits: in groups of 256, in order, as c' / s rounded, ties to even, with s = the group's
largest magnitude / 127, 1 where that is 0. Of two numbers in a byte the first stands in the high half.
"""

from __future__ import annotations

import functools

import torch
from torch import Tensor
from torch.nn import functional

from .contract import Held, Matrix, pieces_of, shape_of
from .scratch import place

BLOCK, GROUP = 64, 256
# Cells of the line from -1 to 1, so many to 1: none has more than one bound between two values of the table.
_CELLS = 16
# The sixteen values of appendix E.
TABLE = (
    -1.0,
    -0.6961928009986877,
    -0.5250730514526367,
    -0.39491748809814453,
    -0.28444138169288635,
    -0.18477343022823334,
    -0.09105003625154495,
    0.0,
    0.07958029955625534,
    0.16093020141124725,
    0.24611230194568634,
    0.33791524171829224,
    0.44070982933044434,
    0.5626170039176941,
    0.7229568362236023,
    1.0,
)


def _nearest(shares: Tensor) -> Tensor:
    """Return the index of the table's value nearest to each share, uint8, the lower one at a tie.

    Cells rise with shares, however they are rounded, so that only the bound in a share's own cell is compared with it.
    That takes a third of the time of a search.
    """
    under, bounds = _cells()
    cells = _cell(shares)
    return under.index_select(0, cells).add_(shares > bounds.index_select(0, cells))


def _cell(shares: Tensor) -> Tensor:
    return ((shares + 1) * _CELLS).int().clamp_(0, 2 * _CELLS)


@functools.cache
def _cells() -> tuple[Tensor, Tensor]:
    """Return for each cell how many bounds lie under it, uint8, and the bound in it, infinite where there is none.

    Between two values of the table lies the bound at which the nearer one changes.
    """
    table = torch.tensor(TABLE)
    bounds = (table[1:] + table[:-1]) / 2
    own, bound_of = _cell(bounds), torch.full((2 * _CELLS + 1,), torch.inf)
    bound_of[own.long()] = bounds
    under = (own < torch.arange(2 * _CELLS + 1)[:, None]).sum(1, dtype=torch.uint8)
    return under, bound_of


class Nf4(Held):
    """numbers uint8 (n_rows, padded width / 2), two a byte; constants int8 (n_rows, blocks); their scales and mean."""

    def __init__(self, weight: Matrix) -> None:
        super().__init__(*shape_of(weight))
        filled_up = self.width + -self.width % BLOCK
        constants = torch.empty(self.n_rows, filled_up // BLOCK)
        self.register_buffer("numbers", torch.empty(self.n_rows, filled_up // 2, dtype=torch.uint8))
        for which, rows in pieces_of(weight):
            blocks = functional.pad(rows, (0, filled_up - self.width)).view(len(rows), -1, BLOCK)
            constants[which] = own = blocks.abs().amax(2)
            shares = blocks / torch.where(own > 0, own, 1)[..., None]
            numbers = _nearest(shares.flatten()).view(len(rows), -1)
            self.numbers[which] = (numbers[:, ::2] << 4) | numbers[:, 1::2]
        self.register_buffer("mean", constants.mean())
        centred = (constants - constants.mean()).flatten()
        groups = functional.pad(centred, (0, -len(centred) % GROUP)).view(-1, GROUP)
        scales = groups.abs().amax(1) / 127
        scales = torch.where(scales > 0, scales, torch.ones_like(scales))
        held = (groups / scales[:, None]).round().to(torch.int8).flatten()[: len(centred)]
        self.register_buffer("scales", scales)
        self.register_buffer("constants", held.view(constants.shape))
        self.register_buffer("pairs", torch.cartesian_prod(torch.tensor(TABLE), torch.tensor(TABLE)))
        self.mean: Tensor
        self.numbers: Tensor
        self.scales: Tensor
        self.constants: Tensor
        self.pairs: Tensor

    def rows(self, which: slice | Tensor, dtype: torch.dtype, into: Tensor | None = None) -> Tensor:
        """Return these rows, (n, width), rounded once to a dtype narrower than float32."""
        wide = torch.promote_types(dtype, torch.float32)
        constants = self.constants[which].to(wide).mul_(self._scales_of(which).to(wide)).add_(self.mean.to(wide))
        numbers = self.numbers[which].flatten().int()
        # A pair is looked up in half the time as one number.
        pairs = torch.view_as_complex(self.pairs.to(wide))
        own = None if into is None else torch.view_as_complex(place((len(numbers), 2), wide, into.device, into))
        found = torch.index_select(pairs, 0, numbers, out=own)
        values = torch.view_as_real(found).view(*constants.shape, BLOCK)
        return values.mul_(constants[..., None]).flatten(1)[:, : self.width].to(dtype)

    def _scales_of(self, which: slice | Tensor) -> Tensor:
        """Return the scale of each constant of these rows, (n, blocks)."""
        n_blocks = self.constants.shape[1]
        if isinstance(which, Tensor):
            return self.scales[(which[:, None] * n_blocks + torch.arange(n_blocks, device=which.device)) // GROUP]
        start, stop, _ = which.indices(self.n_rows)
        first, last = start * n_blocks // GROUP, -(-stop * n_blocks // GROUP)
        skipped = start * n_blocks - first * GROUP
        scales = self.scales[first:last].repeat_interleave(GROUP)
        return scales[skipped : skipped + (stop - start) * n_blocks].view(-1, n_blocks)
