"""The weights of a base divided between processes: each holds a part, and gathers a layer when it is used."""

from __future__ import annotations

from collections.abc import Sequence

import torch
from torch import nn

from .decoder import Attention, Decoder, Mlp
from .linear import Linear


def shard(decoder: Decoder, whole: Sequence[nn.Parameter], device: torch.device) -> None:
    """Divide the weights of the layers between all processes, each on its device, but for those to be kept whole.

    By PyTorch's fully sharded data parallel (Zhao et al. 2023). Embedding, last norm and head stay whole.
    """
    import torch.distributed
    from torch.distributed.device_mesh import init_device_mesh
    from torch.distributed.fsdp import fully_shard

    mesh = init_device_mesh(device.type, (torch.distributed.get_world_size(),))
    for module in decoder.modules():
        if isinstance(module, Attention | Mlp):
            module.joined = None
        if isinstance(module, Linear):
            module.weight = nn.Parameter(module.weight.detach().contiguous(), requires_grad=module.weight.requires_grad)
    for value in whole:
        value.data = value.data.to(device)
    for part in (decoder.embedding, decoder.positions, decoder.norm, decoder.head):
        if part is not None:
            part.to(device)
    for layer in decoder.layers:
        fully_shard(layer, mesh=mesh, ignored_params=set(whole))
