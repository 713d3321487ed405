"""The conversation of `foldkit ask`: lines in, answers out, commands that begin with a stroke."""

from __future__ import annotations

import dataclasses
import sys
import time
from collections.abc import Callable, Iterator, Mapping, Sequence
from pathlib import Path
from typing import TYPE_CHECKING, Any

import click

from foldkit.models.threads import giving_way

from .ask import slot_of
from .common import err, out

if TYPE_CHECKING:
    from rich.table import Table

    from foldkit.answering import AnswerSettings, Streamed
    from foldkit.work import Asked, Conversation

HELP = """\
/base  /adapter [RUN or FILE]  /both    who answers; both stand side by side, and the adapter's answer is kept
/adapter ONE TWO=0.5                    several adapters, added up by their weights
/slot NAME=VALUE                        fill a slot of the template for all that follows
/temperature X   /length N   /seed N    how the answer is found, and its most tokens
/new                                    forget what was said
/quit, or Ctrl-D                        end; Ctrl-C stops an answer and keeps what came"""


class Talk:
    """What the commands change: the conversation, who answers, and where adapters are found."""

    def __init__(
        self, conversation: Conversation, wanted: tuple[str, ...], find: Callable[[Sequence[str]], dict[Path, float]]
    ) -> None:
        self.conversation, self.wanted, self.find = conversation, wanted, find

    def command(self, line: str) -> str:
        """Do what a command says and return what to tell; raises UsageError for one that is wrong."""
        from foldkit.formats import UsageError, near_name

        name, _, rest = line[1:].partition(" ")
        known: dict[str, Callable[[str], str]] = {
            "base": lambda _: self._answers("base"),
            "both": lambda _: self._answers("base", "adapter"),
            "adapter": self._adapter,
            "slot": self._slot,
            "temperature": lambda text: self._sampling(temperature=_number(text, float)),
            "seed": lambda text: self._sampling(seed=_number(text, int)),
            "length": lambda text: self._set(max_tokens=_number(text, int)),
            "new": lambda _: self._new(),
            "help": lambda _: HELP,
        }
        if name not in known:
            near = near_name(f"/{name}", [f"/{one}" for one in known])
            raise UsageError("conversation", "command", "a known command", f"/{name}", near)
        return known[name](rest.strip())

    def _answers(self, *names: str) -> str:
        from foldkit.formats import UsageError

        if "adapter" in names and "adapter" not in self.conversation.asked.contenders:
            raise UsageError("conversation", "adapter", "an open one", None, "open one: /adapter RUN")
        self.wanted = names
        return f"{' and '.join(names)} will answer"

    def _adapter(self, name: str) -> str:
        if name:
            self.conversation.use_adapters(self.find(name.split()))
        return self._answers("adapter") + (f": {name}" if name else "")

    def _slot(self, text: str) -> str:
        name, value = slot_of(text)
        self.conversation.asked.row("", {name: value})
        self.conversation.slots[name] = value
        return f"{name} is {value!r}"

    def _new(self) -> str:
        self.conversation.forget()
        return "begun anew"

    def _sampling(self, **values: Any) -> str:
        sampling = dataclasses.replace(self.conversation.settings.sampling, **values)
        return self._set(sampling=sampling)

    def _set(self, **values: object) -> str:
        self.conversation.settings = dataclasses.replace(self.conversation.settings, **values)  # type: ignore[arg-type]
        settings = self.conversation.settings
        return f"temperature {settings.sampling.temperature:g}, at most {settings.max_tokens} tokens"


@giving_way()
def converse(
    asked: Asked,
    settings: AnswerSettings,
    slots: Mapping[str, str],
    wanted: tuple[str, ...],
    find: Callable[[Sequence[str]], dict[Path, float]],
) -> None:
    """Answer line by line until the input ends."""
    from foldkit.formats import FoldKitError
    from foldkit.work import Conversation

    talk = Talk(Conversation(asked, settings, slots), wanted, find)
    _aside(f"{' and '.join(wanted)} of {asked.base.path.name} will answer; /help tells the commands, Ctrl-D ends")
    for line in _lines():
        if line == "/quit":
            break
        try:
            if line.startswith("/"):
                _aside(talk.command(line))
            elif line:
                _question(talk, line)
        except FoldKitError as error:
            _aside(f"! {error}")


def _lines() -> Iterator[str]:
    """Yield the lines of the input, asked for where a person types them."""
    if not sys.stdin.isatty():
        yield from (line.strip() for line in sys.stdin)
        return
    import contextlib

    with contextlib.suppress(ImportError):
        import readline  # noqa: F401 (lines can be edited, and earlier ones called back)
    while True:
        try:
            yield input("\n> ").strip()
        except EOFError:
            click.echo()
            return
        except KeyboardInterrupt:
            _aside("\nCtrl-D ends")


def _question(talk: Talk, text: str) -> None:
    conversation, began = talk.conversation, time.perf_counter()
    found = {name: conversation.answer(text, adapted=name == "adapter") for name in talk.wanted}
    try:
        show = _side_by_side if len(found) > 1 else _in_a_line
        show(found)
    except KeyboardInterrupt:
        _aside("stopped; what came is kept")
    came = [answer for answer in found.values() if answer.text]
    if came:
        conversation.keep(text, came[-1].text)
    else:
        _aside("an empty answer; neither it nor the question is kept")
    n_tokens, seconds = sum(answer.n_tokens for answer in found.values()), time.perf_counter() - began
    room, n_context = conversation.asked.answerer.room, conversation.n_context
    _aside(f"{n_tokens} tokens in {seconds:.1f} s; {n_context:,} of {room:,} tokens of context")
    if came and came[-1].ended == "at its length":
        full = n_context >= room - 1
        _aside(
            "the context is full: /new forgets what was said" if full else "cut at its length: /length N allows more"
        )


def _in_a_line(found: Mapping[str, Streamed]) -> None:
    for name, answer in found.items():
        click.echo(f"{name}: ", nl=False)
        try:
            for piece in answer:
                click.echo(piece, nl=False)
        finally:
            click.echo()


def _side_by_side(found: Mapping[str, Streamed]) -> None:
    from rich.live import Live

    console = out()
    if not console.is_terminal:
        for answer in found.values():
            list(answer)
        console.print(_columns(found), soft_wrap=False)
        return
    with Live(_columns(found), console=console, auto_refresh=False) as live:
        for answer in found.values():
            for _ in answer:
                live.update(_columns(found), refresh=True)


def _columns(found: Mapping[str, Streamed]) -> Table:
    from rich.box import SIMPLE_HEAD
    from rich.table import Table
    from rich.text import Text

    table = Table(box=SIMPLE_HEAD, pad_edge=False, expand=True)
    for name in found:
        table.add_column(name, ratio=1, overflow="fold")
    table.add_row(*(Text(answer.text) for answer in found.values()))
    return table


def _number(text: str, kind: type[int] | type[float]) -> float:
    from foldkit.formats import UsageError

    try:
        return kind(text)
    except ValueError:
        raise UsageError("conversation", "value", "a number", text, "for example /length 100") from None


def _aside(text: str) -> None:
    err().print(text, style="dim")
