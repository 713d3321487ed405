"""Templates: how a row becomes turns.

A template is a name and a list of turns. A turn has a role, a text with `{slots}`, parts that stand only where a slot
is filled (`when`), and may be learned. `{{` and `}}` are braces themselves. A turn with `each` stands for a whole
conversation: the JSON list of messages in that column, every reply in it learned.
"""

from __future__ import annotations

import json
import string
from collections.abc import Mapping
from dataclasses import dataclass
from pathlib import Path
from typing import Any

from foldkit.formats import InputError, UsageError, near_name, one_of, read_settings, read_toml

ROLES = ("system", "user", "assistant")
BUILTIN = Path(__file__).parent / "builtin"


@dataclass(frozen=True)
class TemplateSettings:
    """Which template: a `.toml` file or the name of a built-in one."""

    use: str


@dataclass(frozen=True)
class Part:
    """Text that is added to a turn only where `slot` is filled."""

    slot: str
    text: str


@dataclass(frozen=True)
class TurnPattern:
    """One turn of a template; it stands only where the slot `needs` is filled, when that is given.

    With `each`, it is all turns of the conversation in that column instead, and has no role or text of its own.
    """

    role: str = ""
    text: str = ""
    learned: bool = False
    needs: str = ""
    when: tuple[Part, ...] = ()
    each: str = ""

    def slots(self) -> tuple[str, ...]:
        """Slots that must be filled wherever this turn stands."""
        return (self.each,) if self.each else tuple(dict.fromkeys(slots_of(self.text)))

    def turns(self, row: Mapping[str, str]) -> tuple[Turn, ...]:
        """Return what this turn becomes for a row. Raises ValueError for a conversation that is none."""
        if self.each:
            return conversation(row[self.each])
        text = self.text.format_map(row)
        text += "".join(part.text.format_map(row) for part in self.when if row.get(part.slot, "").strip())
        return (Turn(self.role, text, self.learned),)


@dataclass(frozen=True)
class Turn:
    """One message of an example."""

    role: str
    text: str
    learned: bool = False


@dataclass(frozen=True)
class Template:
    """A parsed template; `turns(row)` applies it."""

    name: str
    turn: tuple[TurnPattern, ...]

    def slots(self) -> tuple[str, ...]:
        """Every column that the template reads, in order of first use."""
        names: list[str] = []
        for pattern in self.turn:
            names += [pattern.needs] if pattern.needs else []
            names += pattern.slots()
            for part in pattern.when:
                names += [part.slot, *slots_of(part.text)]
        return tuple(dict.fromkeys(names))

    def needed_slots(self, row: Mapping[str, str]) -> tuple[str, ...]:
        """Slots that must be filled for this row."""
        return tuple(dict.fromkeys(slot for pattern in self._standing(row) for slot in pattern.slots()))

    def turns(self, row: Mapping[str, str]) -> tuple[Turn, ...]:
        """Return the turns of a row, its learned texts included. Raises ValueError for a broken conversation."""
        return tuple(turn for pattern in self._standing(row) for turn in pattern.turns(row))

    def prompt_turns(self, row: Mapping[str, str]) -> tuple[Turn, ...]:
        """Return the turns before the last learned one: what a model is asked."""
        turns = self.turns(row)
        return turns[: max((index for index, turn in enumerate(turns) if turn.learned), default=len(turns))]

    def target(self, row: Mapping[str, str]) -> str:
        """Return the text of the last learned turn: what the row holds as right."""
        return [turn.text for turn in self.turns(row) if turn.learned][-1]

    def prompt_slots(self) -> tuple[str, ...]:
        """Columns that a question must bring, optional ones included."""
        if any(pattern.each for pattern in self.turn):
            return self.slots()
        last = max(index for index, pattern in enumerate(self.turn) if pattern.learned)
        return Template(self.name, (*self.turn[:last], TurnPattern("assistant", "", True))).slots()

    def as_mapping(self) -> dict[str, Any]:
        """Return the mapping that `template_from_mapping` reads back."""
        turns = []
        for p in self.turn:
            turn: dict[str, Any] = {"role": p.role, "text": p.text, "learned": p.learned, "needs": p.needs}
            turn["each"] = p.each
            turn["when"] = [{"slot": part.slot, "text": part.text} for part in p.when]
            turns.append(turn)
        return {"name": self.name, "turn": turns}

    def _standing(self, row: Mapping[str, str]) -> list[TurnPattern]:
        return [p for p in self.turn if not p.needs or row.get(p.needs, "").strip()]


def slots_of(text: str) -> list[str]:
    """Return the slots of a pattern; raises ValueError for unmatched braces or formats in a slot."""
    names = []
    for _, name, form, conversion in string.Formatter().parse(text):
        if name is None:
            continue
        if form or conversion or not name.isidentifier():
            raise ValueError(f"a slot is a plain column name in braces, not {{{name}}}; write braces as {{{{ and }}}}")
        names.append(name)
    return names


def read_template(use: str, folder: Path) -> Template:
    """Read a template file, its path relative to `folder`, or a built-in one by name."""
    if not use.endswith(".toml"):
        names = sorted(path.stem for path in BUILTIN.glob("*.toml"))
        one_of(use, names, "[template]", "use")
        path = BUILTIN / f"{use}.toml"
    else:
        path = folder / use
    return template_from_mapping(read_toml(path), str(path))


def template_from_mapping(values: Mapping[str, Any], where: str) -> Template:
    """Parse and check a template; raises InputError naming the turn."""
    template = read_settings(Template, values, where)
    for number, pattern in enumerate(template.turn, 1):
        place = f"{where}, turn {number}"
        if pattern.each:
            if pattern.role or pattern.text or pattern.when:
                todo = "give it a turn of its own"
                raise UsageError(place, "each", "a turn without role and text", pattern.role, todo)
            continue
        if pattern.role not in ROLES:
            raise UsageError(place, "role", " or ".join(ROLES), pattern.role, near_name(pattern.role, ROLES))
        try:
            for text in (pattern.text, *(part.text for part in pattern.when)):
                slots_of(text)
        except ValueError as error:
            raise InputError(place, "text", "text with {slots}", pattern.text, str(error)) from None
        if pattern.learned and pattern.role != "assistant":
            raise InputError(place, "learned", "learned assistant turns", pattern.role, "learn replies only")
    if not any((pattern.learned and not pattern.needs) or pattern.each for pattern in template.turn):
        raise InputError(where, "turns", "at least one learned turn that always stands", None, "add `learned = true`")
    return template


# Names of roles that other files use, and ours.
_ROLES = dict(zip(ROLES, ROLES, strict=True)) | {"human": "user", "bot": "assistant", "model": "assistant"}


def conversation(text: str) -> tuple[Turn, ...]:
    """Return the turns of a conversation, its replies learned: a JSON list of messages with role and content.

    Text that is no JSON list is one user turn, as a question is asked. Raises ValueError naming the message that is
    wrong.
    """
    try:
        messages = json.loads(text)
    except ValueError:
        messages = None
    if not isinstance(messages, list):
        return (Turn("user", text),)
    turns = []
    for number, message in enumerate(messages, 1):
        role = message.get("role", message.get("from")) if isinstance(message, dict) else None
        content = message.get("content", message.get("value")) if isinstance(message, dict) else None
        if role not in _ROLES or not isinstance(content, str):
            raise ValueError(f"message {number} has no role of {', '.join(ROLES)} with a text as its content")
        turns.append(Turn(_ROLES[role], content, learned=_ROLES[role] == "assistant"))
    return tuple(turns)
