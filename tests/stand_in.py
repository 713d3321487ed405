"""A device for tests on a machine without a GPU: it computes on the processor, and refuses to be mixed with it.

Its tensors say that they are on `DEVICE`; what is made from one of them and one of the processor's raises RuntimeError,
as on a real device. Only a program of its own should import this, before all else: it changes PyTorch for good.
"""

from __future__ import annotations

import functools
from types import SimpleNamespace
from typing import Any

import torch
from torch import Tensor
from torch.utils._pytree import tree_leaves, tree_map
from torch.utils.backend_registration import _setup_privateuseone_for_python_backend

NAME = "aside"
# What may have tensors of two devices: copies.
_COPIES = ("aten::copy_", "aten::_to_copy", "aten::_copy_from")

# What makes a tensor from none; those that PyTorch makes empty and lets grow would stay empty.
_MAKERS = ("empty.memory_format", "empty_strided", "arange", "arange.start", "arange.start_step", "eye", "eye.m")


def _same_state(state: Tensor, _: torch.device) -> None:
    assert state.tolist() == [0, 1, 2]


# What PyTorch and a training ask the module of a device for: numbers drawn there, of which there are none, and memory.
MODULE = SimpleNamespace(
    is_available=lambda: True,
    device_count=lambda: 1,
    current_device=lambda: 0,
    get_amp_supported_dtype=list,
    _is_in_bad_fork=lambda: False,
    manual_seed_all=lambda _: None,
    get_rng_state=lambda _: torch.arange(3, dtype=torch.uint8),
    set_rng_state=_same_state,
    max_memory_reserved=lambda _: 3 * 10**8,
    memory_reserved=lambda _: 10**8,
    reset_peak_memory_stats=lambda _: None,
    empty_cache=lambda: None,
    mem_get_info=lambda _: (10**10, 2 * 10**10),
)


class Aside(Tensor):
    """A tensor on the device: `own` holds its numbers."""

    own: Tensor

    @staticmethod
    def __new__(cls, own: Tensor, requires_grad: bool = False) -> Aside:
        """Wrap the numbers."""
        made = Tensor._make_wrapper_subclass(  # type: ignore[attr-defined]
            cls,
            own.shape,
            strides=own.stride(),
            storage_offset=own.storage_offset(),
            dtype=own.dtype,
            device=DEVICE,
            requires_grad=requires_grad,
        )
        made.own = own
        return made

    def __repr__(self) -> str:
        return f"aside({self.own})"

    def untyped_storage(self) -> torch.UntypedStorage:
        """Return where the numbers are."""
        return self.own.untyped_storage()

    def tolist(self) -> Any:
        """Return the numbers."""
        return self.own.tolist()

    def data_ptr(self) -> int:
        """Return where the numbers begin."""
        return self.own.data_ptr()

    @classmethod
    def __torch_dispatch__(cls, call: Any, types: Any, args: Any = (), kwargs: Any = None) -> Any:
        return _computed(call, args, kwargs or {})


def _is_aside(device: Any) -> bool:
    return device is not None and torch.device(device).type == NAME


def _computed(call: Any, args: Any, kwargs: dict[str, Any]) -> Any:
    """Compute on the processor, and say that it was done on the device."""
    name = call._schema.name
    found = [value for value in tree_leaves((args, kwargs)) if isinstance(value, Tensor)]
    # One number is taken from the processor by any device.
    mixed = [value for value in found if not isinstance(value, Aside) and value.dim()]
    if mixed and name not in _COPIES and any(isinstance(value, Aside) for value in found):
        raise RuntimeError(f"{name}: tensors on two devices")
    to = kwargs.get("device")
    given = kwargs | ({"device": torch.device("cpu")} if _is_aside(to) else {})
    args_there, given = tree_map(lambda value: value.own if isinstance(value, Aside) else value, (args, given))
    out = call(*args_there, **given)
    if to is not None and not _is_aside(to):
        return out
    if "out" in kwargs:
        return kwargs["out"]
    if name.endswith("_") and isinstance(out, Tensor):
        return args[0]
    known = {id(value.own): value for value in found if isinstance(value, Aside)}

    def put_aside(value: Any) -> Any:
        if not isinstance(value, Tensor):
            return value
        return known[id(value)] if id(value) in known else Aside(value)

    return tree_map(put_aside, out)


def _register() -> torch.library.Library:
    _setup_privateuseone_for_python_backend(NAME, backend_module=MODULE)
    # Whose tensors are of no other class.
    torch.inference_mode = lambda mode=True: torch.no_grad()  # type: ignore[assignment,misc]
    library = torch.library.Library("aten", "IMPL")

    def copy_from(source: Tensor, target: Aside, non_blocking: bool = False) -> Aside:
        target.own.copy_(source.own if isinstance(source, Aside) else source)
        return target

    library.impl("_copy_from", copy_from, "PrivateUse1")
    for name in _MAKERS:
        library.impl(name, functools.partial(_made, name), "PrivateUse1")
    return library


def _made(name: str, *args: Any, **kwargs: Any) -> Aside:
    packet, _, overload = name.partition(".")
    given = {key: value for key, value in kwargs.items() if key != "pin_memory"} | {"device": torch.device("cpu")}
    return Aside(getattr(getattr(torch.ops.aten, packet), overload or "default")(*args, **given))


_LIBRARY = _register()
DEVICE = torch.device(NAME, 0)
