"""Run folders, and the run log."""

from .folder import RunFolder, new_run, newest_run
from .log import LogWriter, RunLog, cut_log, read_log

__all__ = ["LogWriter", "RunFolder", "RunLog", "cut_log", "new_run", "newest_run", "read_log"]
