"""Contenders, measures, judge and the scorecard."""

from typing import TYPE_CHECKING

from foldkit.formats.lazy import lazy_door

if TYPE_CHECKING:
    from .card import Scorecard as Scorecard
    from .contender import Contender as Contender
    from .contender import contender_replies as contender_replies
    from .intervals import Interval as Interval
    from .intervals import Resamples as Resamples
    from .intervals import holm as holm
    from .intervals import paired_test as paired_test
    from .intervals import rows_needed as rows_needed
    from .intervals import share_interval as share_interval
    from .measures import MEASURES as MEASURES
    from .measures import Form as Form
    from .measures import Measure as Measure
    from .measures import Reply as Reply
    from .measures import own_measure as own_measure
    from .scorecard import Asked as Asked
    from .scorecard import Given as Given
    from .scorecard import make_scorecard as make_scorecard
    from .settings import ContenderSettings as ContenderSettings
    from .settings import JudgeSettings as JudgeSettings
    from .settings import ScoreSettings as ScoreSettings

__getattr__, __dir__, __all__ = lazy_door(
    __name__,
    {
        "card": ("Scorecard",),
        "contender": ("Contender", "contender_replies"),
        "intervals": ("Interval", "Resamples", "holm", "paired_test", "rows_needed", "share_interval"),
        "measures": ("MEASURES", "Form", "Measure", "Reply", "own_measure"),
        "scorecard": ("Asked", "Given", "make_scorecard"),
        "settings": ("ContenderSettings", "JudgeSettings", "ScoreSettings"),
    },
)
