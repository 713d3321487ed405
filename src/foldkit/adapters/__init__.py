"""Low-rank maps on a frozen base: attach, switch, save, load."""

from typing import TYPE_CHECKING

from foldkit.formats.lazy import lazy_door

if TYPE_CHECKING:
    from .attaching import Adapter as Adapter
    from .attaching import attach as attach
    from .file import (
        AdapterHeader as AdapterHeader,
    )
    from .file import (
        begin_with as begin_with,
    )
    from .file import (
        load_adapter as load_adapter,
    )
    from .file import (
        read_header as read_header,
    )
    from .file import (
        save_adapter as save_adapter,
    )
    from .lowrank import LowRankLinear as LowRankLinear
    from .settings import AdapterSettings as AdapterSettings

__getattr__, __all__ = lazy_door(
    __name__,
    {
        "attaching": ("Adapter", "attach"),
        "file": ("AdapterHeader", "begin_with", "load_adapter", "read_header", "save_adapter"),
        "lowrank": ("LowRankLinear",),
        "settings": ("AdapterSettings",),
    },
)
