"""A matrix in 4-bit NormalFloat with double quantisation (Dettmers et al. 2023, sections 2 and 3, appendix E).

The rule, where the paper leaves it open. Blocks are 64 columns of one row; a width that is no multiple of 64 is filled
up with zeros. The constant of a block is its largest magnitude c. A number is the index of the table's value nearest to
weight / c, the lower index at a tie, and 7, the table's zero, where c is 0. The constants of the whole matrix, their
mean taken off, are held in 8 bits: in groups of 256, in order, as c' / s rounded, ties to even, with s = the group's
largest magnitude / 127, 1 where that is 0. Of two numbers in a byte the first stands in the high half.
"""

from __future__ import annotations

import torch
from torch import Tensor
from torch.nn import functional

from .contract import Held

BLOCK, GROUP = 64, 256
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


class Nf4(Held):
    """numbers uint8 (n_rows, padded width / 2), two a byte; constants int8 (n_rows, blocks); their scales and mean."""

    def __init__(self, weight: Tensor) -> None:
        super().__init__(*weight.shape)
        table = torch.tensor(TABLE)
        blocks = functional.pad(weight.float(), (0, -self.width % BLOCK)).view(self.n_rows, -1, BLOCK)
        constants = blocks.abs().amax(2)
        shares = blocks / torch.where(constants > 0, constants, 1)[..., None]
        # Between two values of the table lies the bound at which the nearer one changes.
        bounds = (table[1:] + table[:-1]) / 2
        numbers = torch.bucketize(shares, bounds).to(torch.uint8).view(self.n_rows, -1)
        self.register_buffer("numbers", (numbers[:, ::2] << 4) | numbers[:, 1::2])
        self.register_buffer("mean", constants.mean())
        centred = (constants - constants.mean()).flatten()
        groups = functional.pad(centred, (0, -len(centred) % GROUP)).view(-1, GROUP)
        scales = groups.abs().amax(1) / 127
        scales = torch.where(scales > 0, scales, torch.ones_like(scales))
        held = (groups / scales[:, None]).round().to(torch.int8).flatten()[: len(centred)]
        self.register_buffer("scales", scales)
        self.register_buffer("constants", held.view(constants.shape))
        self.register_buffer("pairs", torch.cartesian_prod(table, table))
        self.mean: Tensor
        self.numbers: Tensor
        self.scales: Tensor
        self.constants: Tensor
        self.pairs: Tensor

    def rows(self, which: slice | Tensor, dtype: torch.dtype) -> Tensor:
        """Return these rows, (n, width), rounded once to a dtype narrower than float32."""
        wide, n_blocks = torch.promote_types(dtype, torch.float32), self.constants.shape[1]
        places = torch.arange(self.n_rows, device=self.numbers.device)[which, None] * n_blocks
        groups = (places + torch.arange(n_blocks, device=places.device)) // GROUP
        constants = self.constants[which].to(wide) * self.scales.to(wide)[groups] + self.mean.to(wide)
        numbers = self.numbers[which].flatten().int()
        values = self.pairs.to(wide).index_select(0, numbers).view(*constants.shape, BLOCK)
        return values.mul_(constants[..., None]).flatten(1)[:, : self.width].to(dtype)
