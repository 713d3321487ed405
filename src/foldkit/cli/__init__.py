"""The command line: one small file a command; printing, progress, exit codes."""

from .main import main

__all__ = ["main"]
