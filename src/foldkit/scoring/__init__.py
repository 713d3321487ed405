"""Contenders, measures and the scorecard."""

from typing import TYPE_CHECKING

from foldkit.formats.lazy import lazy_door

if TYPE_CHECKING:
    from .contender import (
        Contender as Contender,
    )
    from .contender import (
        contender_replies as contender_replies,
    )
    from .contender import (
        reply_losses as reply_losses,
    )
    from .intervals import Interval as Interval
    from .intervals import mean_interval as mean_interval
    from .intervals import paired_interval as paired_interval
    from .measures import MEASURES as MEASURES
    from .measures import Measure as Measure
    from .scorecard import Scorecard as Scorecard
    from .scorecard import make_scorecard as make_scorecard
    from .settings import ContenderSettings as ContenderSettings
    from .settings import ScoreSettings as ScoreSettings

__getattr__, __all__ = lazy_door(
    __name__,
    {
        "contender": ("Contender", "contender_replies", "reply_losses"),
        "intervals": ("Interval", "mean_interval", "paired_interval"),
        "measures": ("MEASURES", "Measure"),
        "scorecard": ("Scorecard", "make_scorecard"),
        "settings": ("ContenderSettings", "ScoreSettings"),
    },
)
