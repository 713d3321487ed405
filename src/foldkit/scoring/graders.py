"""Who grades, and grades that are kept: a judge may cost time and money, so that nothing is asked twice."""

from __future__ import annotations

import contextlib
import json
import re
import subprocess
import tempfile
from collections.abc import Callable, Iterable, Iterator, Sequence
from pathlib import Path
from typing import IO

from foldkit.formats import FoldKitError, InputError, all_kept, fingerprint_value, keep
from foldkit.formats.jsonl import readable_objects

from .judge import Item, readable
from .measures import load_function

_PLAIN = re.compile(r"[\w./+-]+")
_SCRIPT = re.compile(r"[\w./+][\w./+-]*\.(?:py|sh|js|pl|rb)")
# Gives the id of an item and what is said of it, as it comes, in any order.
Grader = Callable[[Sequence[Item]], Iterable[tuple[str, str]]]


class KeptGrades:
    """What a grader says, kept in a file as it comes where it can be read.

    `n_kept` counts the items whose grade stood there before.
    """

    def __init__(self, grader: Grader, kept_at: Path) -> None:
        self._grader, self._kept_at, self.n_kept = grader, kept_at, 0
        self._before = dict(all_kept(kept_at))
        self._known = dict(self._before)

    def missing(self, items: Iterable[Item]) -> dict[str, Item]:
        """Return the items that are still to be asked, by what they say, so that each stands there once."""
        found = {_key(item): item for item in items}
        return {key: item for key, item in found.items() if key not in self._known}

    def texts(self, items: Sequence[Item], progress: Callable[[int], None]) -> list[str]:
        """Return what is said of each item, "" for nothing; `progress` hears how many more are done."""
        keys, missing = [_key(item) for item in items], self.missing(items)
        self.n_kept += sum(key in self._before for key in keys)
        progress(len(items) - len(missing))
        waiting, said = {item["id"]: key for key, item in missing.items()}, dict[str, str]()
        for name, text in self._grader(list(missing.values())) if missing else ():
            key = waiting.pop(name, "")
            if not key:
                continue
            said[key] = text
            if readable(missing[key], text):
                self._known[key] = text
                keep(self._kept_at, [key, text])
            progress(1)
        progress(len(waiting))
        return [self._known.get(key, said.get(key, "")) for key in keys]


def _key(item: Item) -> str:
    return fingerprint_value({name: value for name, value in item.items() if name != "id"})


def command_grader(command: str, folder: Path) -> Grader:
    """Return a grader that gives a program items as JSON lines and reads `id` and `grade` back, in any order.

    The program runs in `folder`. Raises FoldKitError when it fails.
    """

    def run(items: Sequence[Item]) -> Iterator[tuple[str, str]]:
        n = 0
        # Into a pipe one could not write what a program that ends early has not read.
        with tempfile.TemporaryFile() as given, tempfile.TemporaryFile() as told:
            given.writelines(json.dumps(item, ensure_ascii=False).encode() + b"\n" for item in items)
            given.seek(0)
            with _running(command, folder, given, told) as process:
                assert process.stdout
                for value in readable_objects(process.stdout):
                    if "id" in value and "grade" in value:
                        n += 1
                        yield str(value["id"]), str(value["grade"])
            if process.returncode:
                told.seek(0)
                last = told.read().decode(errors="replace").strip().splitlines()[-1:] or ["nothing on standard error"]
                ended = f"{command!r} ended with code {process.returncode} after {n} of {len(items)} grades"
                raise FoldKitError(f"[score.judge] command: {ended}; what could be read is kept; last words: {last[0]}")

    return run


def check_command(command: str, folder: Path) -> None:
    """Raise InputError unless the shell finds the program that is a command's first word, and a script behind it.

    Words that are not plain ones are the shell's to read.
    """
    word, second, *_ = *command.split(), "", ""
    if word and not _PLAIN.fullmatch(word):
        return
    found = subprocess.run(["sh", "-c", 'command -v "$1"', "sh", word], cwd=folder, capture_output=True, check=False)
    if found.returncode:
        todo = "check its name; it runs in the sheet's folder"
        raise InputError("[score.judge]", "command", "a program that the shell finds", word, todo)
    if _SCRIPT.fullmatch(second) and not (folder / second).exists():
        todo = "check its path, which is from the sheet's folder"
        raise InputError("[score.judge]", "command", "a script that is there", second, todo)


@contextlib.contextmanager
def _running(command: str, folder: Path, given: IO[bytes], told: IO[bytes]) -> Iterator[subprocess.Popen[bytes]]:
    """Run a program for the length of a `with` block; where that is left early, it is stopped."""
    pipe = subprocess.PIPE
    with subprocess.Popen(command, shell=True, cwd=folder, stdin=given, stdout=pipe, stderr=told) as process:
        try:
            yield process
        except BaseException:
            _stop(process)
            raise


def _stop(shell: subprocess.Popen[bytes]) -> None:
    """Stop a shell and all that it began, which would go on without it."""
    import psutil

    begun = []
    with contextlib.suppress(psutil.NoSuchProcess):
        begun = psutil.Process(shell.pid).children(recursive=True)
    shell.kill()
    for one in begun:
        with contextlib.suppress(psutil.NoSuchProcess):
            one.kill()


def function_grader(named: str, folder: Path) -> Grader:
    """Return a grader that calls `file.py:name` with each item; what it returns is read as text."""
    function = load_function(named, folder, "[score.judge]")

    def run(items: Sequence[Item]) -> Iterator[tuple[str, str]]:
        for item in items:
            try:
                text = str(function(item))
            except Exception as error:
                told = f"{type(error).__name__}: {error}"
                raise InputError(f"[score.judge] {named}", "function", "a grade", told, "mend it") from error
            yield item["id"], text

    return run
