"""The command `foldkit`: its group of commands, and errors as one line with an exit code."""

from __future__ import annotations

import atexit
import contextlib
import io
import os
import signal
import sys

import click

from foldkit.formats.errors import FoldKitError, LostProcessError, StoppedError, UsageError, half_characters
from foldkit.models.threads import limit_threads

from . import ask, build, curves, demo, forecast, look, new, report, review, runs, score, split, train, watch
from .groups import Commands

# The exit codes of errors that are no plain failure.
_CODES = {UsageError: 2, LostProcessError: 3, StoppedError: 130}
EPILOG = "Start with `foldkit demo`. Every command reads fold.toml in this folder, or the sheet named with --sheet."


@click.group(cls=Commands, epilog=EPILOG, context_settings={"help_option_names": ["-h", "--help"]})
@click.version_option(package_name="fold-kit")
def foldkit() -> None:
    """From rows to a low-rank adapter and an honest score, on local hardware."""


# In the order people work.
for module in (new, look, review, split, build, forecast, train, watch, curves, runs, score, ask, report, demo):
    foldkit.add_command(getattr(module, module.__name__.rpartition(".")[2]))


def main() -> None:
    """Run the command line: exit code 2 for a wrong call, 1 for a failure, 130 for an interrupt."""
    limit_threads()
    if isinstance(sys.stdout, io.TextIOWrapper):
        sys.stdout.reconfigure(errors="backslashreplace")  # as standard error is, where there is no such character
    if isinstance(sys.stdin, io.TextIOWrapper):
        sys.stdin.reconfigure(errors="surrogateescape")  # as arguments are, where they are no UTF-8
    try:
        foldkit.main(standalone_mode=False)
    except click.ClickException as error:
        error.show()
        _say_what_to_do(error)
        sys.exit(2)
    except FoldKitError as error:
        _fail(str(error), next((code for kind, code in _CODES.items() if isinstance(error, kind)), 1))
    except UnicodeEncodeError as error:
        _fail(str(half_characters(error.object)), 1)
    except OSError as error:
        where = f"{error.filename}: {error.strerror}; check the path, its rights and the room there"
        _fail(where if error.filename else str(error), 1)
    except (click.Abort, KeyboardInterrupt):  # before RuntimeError, which Abort is
        click.echo("foldkit: interrupted", err=True)
        with contextlib.suppress(OSError):
            sys.stdout.flush()
        os._exit(130)  # threads that are still at work are not waited for
    except (MemoryError, RuntimeError) as error:
        if not _memory_ran_out(error):
            raise
        less = "a training takes less with a smaller train.micro_batch, train.recompute=true or base.weights=nf4"
        _fail(f"memory ran out; what was written before is whole; {less}: foldkit forecast says how much", 1)
    finally:
        # All is done: what Ctrl-C would interrupt is Python's own end, with a traceback.
        atexit.register(signal.signal, signal.SIGINT, signal.SIG_IGN)


def _say_what_to_do(error: click.ClickException) -> None:
    """Say of an argument too many how a sheet is named, and of a text that looks like options how it is given."""
    command = error.ctx.command if isinstance(error, click.UsageError) and error.ctx else None
    known = {name for option in command.params for name in option.opts} if command else set()
    if "--sheet" in known and "unexpected extra argument" in error.message:
        click.echo("Rows and settings stand in the sheet: fold.toml in this folder, or --sheet FILE.", err=True)
    if "text" in known and isinstance(error, click.NoSuchOption) and not error.option_name.startswith("--"):
        click.echo("A text that begins with a dash stands last, after --.", err=True)


def _memory_ran_out(error: Exception) -> bool:
    """Say whether an error is that of an allocator: PyTorch raises one of no class of its own on the processor."""
    said = ("can't allocate memory", "not enough memory", "out of memory", "Cannot allocate memory")
    return isinstance(error, MemoryError) or any(words in str(error) for words in said)


def _fail(message: str, code: int) -> None:
    click.echo(f"foldkit: {message}", err=True)
    sys.stdout.flush()
    if isinstance(sys.exc_info()[1], BrokenPipeError):
        os.dup2(os.open(os.devnull, os.O_WRONLY), sys.stdout.fileno())
    sys.exit(code)
