"""Run folders, the run log, the list of runs, and what differs between them."""

from typing import TYPE_CHECKING

from foldkit.formats.lazy import lazy_door

if TYPE_CHECKING:
    from .differences import differing as differing
    from .differences import flat as flat
    from .differences import of_data as of_data
    from .differences import of_loss as of_loss
    from .folder import RunFolder as RunFolder
    from .folder import check_name as check_name
    from .folder import new_run as new_run
    from .folder import newest_run as newest_run
    from .folder import run_at as run_at
    from .keeping import ask_to_stop as ask_to_stop
    from .keeping import delete_run as delete_run
    from .keeping import record as record
    from .keeping import write_note as write_note
    from .listing import RunSummary as RunSummary
    from .listing import list_runs as list_runs
    from .listing import read_run_sheet as read_run_sheet
    from .listing import summarise_run as summarise_run
    from .log import LogWriter as LogWriter
    from .log import RunLog as RunLog
    from .log import cut_log as cut_log
    from .log import read_log as read_log
    from .showing import clock as clock
    from .showing import shown_setting as shown_setting

# The log is read with a library of columns, which a list of runs need not wait for.
__getattr__, __dir__, __all__ = lazy_door(
    __name__,
    {
        "differences": ("differing", "flat", "of_data", "of_loss"),
        "folder": ("RunFolder", "check_name", "new_run", "newest_run", "run_at"),
        "keeping": ("ask_to_stop", "delete_run", "record", "write_note"),
        "listing": ("RunSummary", "list_runs", "read_run_sheet", "summarise_run"),
        "log": ("LogWriter", "RunLog", "cut_log", "read_log"),
        "showing": ("clock", "shown_setting"),
    },
)
