"""A question or a row to an answer, with the adapter's own template."""

from typing import TYPE_CHECKING

from foldkit.formats.lazy import lazy_door

if TYPE_CHECKING:
    from .answerer import NO_SHOTS as NO_SHOTS
    from .answerer import Answered as Answered
    from .answerer import Answerer as Answerer
    from .history import History as History
    from .settings import AnswerSettings as AnswerSettings
    from .shots import NearestShots as NearestShots
    from .shots import Shots as Shots
    from .shots import draw_shots as draw_shots
    from .shots import key_of as key_of
    from .streamed import Streamed as Streamed

__getattr__, __dir__, __all__ = lazy_door(
    __name__,
    {
        "answerer": ("NO_SHOTS", "Answered", "Answerer"),
        "history": ("History",),
        "settings": ("AnswerSettings",),
        "shots": ("NearestShots", "Shots", "draw_shots", "key_of"),
        "streamed": ("Streamed",),
    },
)
