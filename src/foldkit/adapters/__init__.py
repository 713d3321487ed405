"""Low-rank maps on a frozen base: attach, switch, save, load."""

from typing import TYPE_CHECKING

from foldkit.formats.lazy import lazy_door

if TYPE_CHECKING:
    from .attaching import Adapter as Adapter
    from .attaching import attach as attach
    from .attaching import check_fits as check_fits
    from .file import (
        AdapterHeader as AdapterHeader,
    )
    from .file import (
        Loaded as Loaded,
    )
    from .file import (
        begin_with as begin_with,
    )
    from .file import (
        load_adapter as load_adapter,
    )
    from .file import (
        put_on as put_on,
    )
    from .file import (
        read_adapter as read_adapter,
    )
    from .file import (
        read_header as read_header,
    )
    from .file import (
        save_adapter as save_adapter,
    )
    from .lowrank import LowRankLinear as LowRankLinear
    from .settings import AdapterSettings as AdapterSettings
    from .summing import frozen_products as frozen_products
    from .summing import summed as summed

__getattr__, __dir__, __all__ = lazy_door(
    __name__,
    {
        "attaching": ("Adapter", "attach", "check_fits"),
        "file": (
            "AdapterHeader",
            "Loaded",
            "begin_with",
            "load_adapter",
            "put_on",
            "read_adapter",
            "read_header",
            "save_adapter",
        ),
        "lowrank": ("LowRankLinear",),
        "settings": ("AdapterSettings",),
        "summing": ("frozen_products", "summed"),
    },
)
