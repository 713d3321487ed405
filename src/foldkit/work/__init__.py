"""The sheet, and its steps: what Python users and the command line both call."""

from typing import TYPE_CHECKING

from foldkit.formats.lazy import lazy_door

if TYPE_CHECKING:
    from .answer_file import answer_rows as answer_rows
    from .answer_file import read_questions as read_questions
    from .asking import Asked as Asked
    from .asking import open_asked as open_asked
    from .asking import open_asked_base as open_asked_base
    from .conversation import Conversation as Conversation
    from .forecast_step import faster_compute as faster_compute
    from .forecast_step import forecast as forecast
    from .inputs import Inputs as Inputs
    from .inputs import lint as lint
    from .inputs import open_inputs as open_inputs
    from .inputs import token_lengths as token_lengths
    from .rate_step import FoundRate as FoundRate
    from .rate_step import find_rate as find_rate
    from .report_step import write_report as write_report
    from .runs_step import runs_table as runs_table
    from .scoring_step import score as score
    from .sheet import Sheet as Sheet
    from .sheet import read_sheet as read_sheet
    from .starting import Start as Start
    from .starting import start as start
    from .steps import Split as Split
    from .steps import build as build
    from .steps import check as check
    from .steps import split as split
    from .training_step import resume as resume
    from .training_step import train as train
    from .vary_step import Lead as Lead
    from .vary_step import Trials as Trials
    from .vary_step import Tried as Tried
    from .vary_step import lead_of as lead_of
    from .vary_step import make_trials as make_trials
    from .vary_step import plan_of as plan_of
    from .vary_step import plan_trials as plan_trials
    from .vary_step import read_trials as read_trials

__getattr__, __dir__, __all__ = lazy_door(
    __name__,
    {
        "answer_file": ("answer_rows", "read_questions"),
        "asking": ("Asked", "open_asked", "open_asked_base"),
        "conversation": ("Conversation",),
        "forecast_step": ("faster_compute", "forecast"),
        "inputs": ("Inputs", "lint", "open_inputs", "token_lengths"),
        "rate_step": ("FoundRate", "find_rate"),
        "report_step": ("write_report",),
        "runs_step": ("runs_table",),
        "sheet": ("Sheet", "read_sheet"),
        "scoring_step": ("score",),
        "starting": ("Start", "start"),
        "steps": ("Split", "build", "check", "split"),
        "training_step": ("resume", "train"),
        "vary_step": ("Lead", "Trials", "Tried", "lead_of", "make_trials", "plan_of", "plan_trials", "read_trials"),
    },
)
