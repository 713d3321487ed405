"""Fold Kit: from rows to a low-rank adapter and an honest score, on local hardware."""

from typing import TYPE_CHECKING

from foldkit.formats.lazy import lazy_door

if TYPE_CHECKING:
    from .formats import FoldKitError as FoldKitError
    from .formats import InputError as InputError
    from .formats import UsageError as UsageError
    from .runs import newest_run as newest_run
    from .runs import read_log as read_log
    from .work import (
        build as build,
    )
    from .work import (
        check as check,
    )
    from .work import (
        find_rate as find_rate,
    )
    from .work import (
        forecast as forecast,
    )
    from .work import (
        lint as lint,
    )
    from .work import (
        open_asked as open_asked,
    )
    from .work import (
        open_inputs as open_inputs,
    )
    from .work import (
        read_sheet as read_sheet,
    )
    from .work import (
        resume as resume,
    )
    from .work import (
        score as score,
    )
    from .work import (
        split as split,
    )
    from .work import (
        start as start,
    )
    from .work import (
        train as train,
    )

__version__ = "0.1.0"

__getattr__, __dir__, __all__ = lazy_door(
    __name__,
    {
        "formats": ("FoldKitError", "InputError", "UsageError"),
        "runs": ("newest_run", "read_log"),
        "work": (
            "build",
            "check",
            "find_rate",
            "forecast",
            "lint",
            "open_asked",
            "open_inputs",
            "read_sheet",
            "resume",
            "score",
            "split",
            "start",
            "train",
        ),
    },
)
