"""Templates: how a row becomes turns.

A template is a name and a list of turns. A turn has a role, a text with `{slots}`, parts that stand only where a slot
is filled (`before` the text, or after it by `when`), and may be learned. `{{` and `}}` are braces themselves. A turn
with `each` stands for a whole conversation: the JSON list of messages in that column, every reply in it learned unless
its message, or the turn, says that `learned` is false; `roles` says what other names of roles in it mean; its parts
stand with each message that has the key `slot`. `default` gives texts for slots that are blank. The last learned turn
may have a `rejected` text: the worse reply of a preference pair; and where the slot `open` is filled it has no end
marker, for its text goes on elsewhere.
"""

from __future__ import annotations

import functools
import string
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any, NamedTuple

from foldkit.formats import (
    ROLES,
    InputError,
    UsageError,
    check_roles,
    near_name,
    one_of,
    read_messages,
    read_settings,
    read_toml,
)
from foldkit.formats.paths import path_from

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

    With `each`, it is all turns of the conversation in that column instead, and has no role or text of its own; none of
    its replies are learned unless the turn is; `roles` names roles of its messages with ours: `{ keeper = "user" }`;
    the slots of `before` and `when` are keys of its messages. A learned turn is left without its end marker where the
    slot `open` is filled.
    """

    role: str = ""
    text: str = ""
    learned: bool = False
    needs: str = ""
    before: tuple[Part, ...] = ()
    when: tuple[Part, ...] = ()
    each: str = ""
    roles: dict[str, str] = field(default_factory=dict)
    rejected: str = ""
    open: str = ""

    @functools.cached_property
    def slots(self) -> tuple[str, ...]:
        """Slots that must be filled wherever this turn stands."""
        return (self.each,) if self.each else tuple(dict.fromkeys(slots_of(self.text)))

    @functools.cached_property
    def part_slots(self) -> tuple[str, ...]:
        """Slots of the parts, before the text and after it."""
        return (*_slots_of_parts(self.before), *_slots_of_parts(self.when))

    def render(self, row: Mapping[str, str]) -> str:
        """Return the text of this turn for a row."""
        return self.with_parts(self.text.format_map(row), row)

    def with_parts(self, text: str, cells: Mapping[str, str]) -> str:
        """Return a text with the parts whose slots are filled before it and after it."""
        if self.before or self.when:
            text = _standing_parts(self.before, cells) + text + _standing_parts(self.when, cells)
        return text

    def said(self, text: str) -> list[Turn]:
        """Return the turns of a conversation: a JSON list of messages with role and content.

        Where the turn is learned its replies are, except those with `"learned": false`. Text that is no JSON
        list is one user turn, as a question is asked. Raises ValueError naming the message that is wrong.
        """
        messages = read_messages(text, self.roles)
        if messages is None:
            return [Turn("user", text)]
        texts = [self.with_parts(one.text, {name: one.key(name) for name in self.part_slots}) for one in messages]
        return [Turn(m.role, own, m.learned and self.learned) for m, own in zip(messages, texts, strict=True)]


class Turn(NamedTuple):
    """One message of an example."""

    role: str
    text: str
    learned: bool = False
    open: bool = False


class Outline(NamedTuple):
    """The turns of an example without their texts: the role of each, whether it is learned, and whether it goes on."""

    roles: tuple[str, ...]
    learned: tuple[bool, ...]
    open: tuple[bool, ...]


@dataclass(frozen=True)
class Template:
    """A parsed template; `turns(row)` applies it."""

    name: str
    turn: tuple[TurnPattern, ...]
    default: dict[str, str] = field(default_factory=dict)

    def slots(self) -> tuple[str, ...]:
        """Every column that the template reads, in order of first use."""
        names: list[str] = []
        for pattern in self.turn:
            names += [pattern.needs] if pattern.needs else []
            names += [] if pattern.each else _slots_of_parts(pattern.before)
            names += pattern.slots
            names += [] if pattern.each else _slots_of_parts(pattern.when)
            names += slots_of(pattern.rejected)
            names += [pattern.open] if pattern.open else []
        return tuple(dict.fromkeys(names))

    def needed_slots(self, row: Mapping[str, str]) -> tuple[str, ...]:
        """Slots that must be filled for this row; one with a default need not be."""
        if self._always_needed is not None:
            return self._always_needed
        return self._needed(self._standing(self._filled(row)))

    def outlined(self, row: Mapping[str, str]) -> tuple[Outline, list[str]]:
        """Return the outline of a row's turns and their texts. Raises ValueError for a broken conversation."""
        row = self._filled(row)
        if self._fixed is not None:
            return self._fixed, [pattern.render(row) for pattern in self.turn]
        turns: list[Turn] = []
        for pattern in self._standing(row):
            if pattern.each:
                turns += pattern.said(row[pattern.each])
            else:
                turns.append(Turn(pattern.role, pattern.render(row), pattern.learned, _is_filled(pattern.open, row)))
        return outline_of(turns), [turn.text for turn in turns]

    def turns(self, row: Mapping[str, str]) -> tuple[Turn, ...]:
        """Return the turns of a row, its learned texts included. Raises ValueError for a broken conversation."""
        outline, texts = self.outlined(row)
        return tuple(map(Turn, outline.roles, texts, outline.learned, outline.open))

    def parted(self, row: Mapping[str, str]) -> tuple[tuple[Turn, ...], str]:
        """Return the turns before the last learned one, and its text; raises IndexError where none is learned."""
        turns = self.turns(row)
        last = [index for index, turn in enumerate(turns) if turn.learned][-1]
        return turns[:last], turns[last].text

    def prompt_turns(self, row: Mapping[str, str]) -> tuple[Turn, ...]:
        """Return the turns before the last learned one: what a model is asked."""
        turns = self.turns(row)
        return turns[: max((index for index, turn in enumerate(turns) if turn.learned), default=len(turns))]

    def target(self, row: Mapping[str, str]) -> str:
        """Return the text of the last learned turn: what the row holds as right."""
        return self.parted(row)[1]

    def goes_on(self, row: Mapping[str, str]) -> bool:
        """Tell whether the last learned turn of a row is left without its end marker."""
        return any(_is_filled(pattern.open, row) for pattern in self.turn)

    def reply_slots(self) -> tuple[str, ...]:
        """Columns that the last learned reply is made of, but for those with a default."""
        *_, last = (pattern for pattern in self.turn if pattern.learned)
        return tuple(slot for slot in last.slots if slot not in self.default)

    def rejected_slots(self) -> tuple[str, ...]:
        """Columns that the worse reply of a preference pair is made of; none where the template has no such reply."""
        return tuple(dict.fromkeys(slot for pattern in self.turn for slot in slots_of(pattern.rejected)))

    def rejected(self, row: Mapping[str, str]) -> str:
        """Return the worse reply of a row, "" where the template has none."""
        row = self._filled(row)
        return next((pattern.rejected.format_map(row) for pattern in self.turn if pattern.rejected), "")

    def prompt_slots(self) -> tuple[str, ...]:
        """Columns that a question must bring, optional ones included; a conversation at the end is one of them."""
        last = max(index for index, pattern in enumerate(self.turn) if pattern.learned)
        if self.turn[last].each:
            return self.slots()
        return Template(self.name, (*self.turn[:last], TurnPattern("assistant", "", True))).slots()

    def as_mapping(self) -> dict[str, Any]:
        """Return the mapping that `template_from_mapping` reads back."""
        turns = []
        for p in self.turn:
            turn: dict[str, Any] = {"role": p.role, "text": p.text, "learned": p.learned, "needs": p.needs}
            turn["each"] = p.each
            turn["before"] = [{"slot": part.slot, "text": part.text} for part in p.before]
            turn["when"] = [{"slot": part.slot, "text": part.text} for part in p.when]
            turn |= {"roles": dict(p.roles)} if p.roles else {}
            turn |= {"rejected": p.rejected} if p.rejected else {}
            turn |= {"open": p.open} if p.open else {}
            turns.append(turn)
        return {"name": self.name, "turn": turns, "default": dict(self.default)}

    @functools.cached_property
    def _fixed(self) -> Outline | None:
        """The outline of every row; None where that depends on the row."""
        if any(pattern.needs or pattern.each or pattern.open for pattern in self.turn):
            return None
        return outline_of([Turn(pattern.role, "", pattern.learned) for pattern in self.turn])

    @functools.cached_property
    def _always_needed(self) -> tuple[str, ...] | None:
        """The slots needed by every row; None where that depends on the row."""
        return None if any(pattern.needs for pattern in self.turn) else self._needed(self.turn)

    def _needed(self, standing: Sequence[TurnPattern]) -> tuple[str, ...]:
        names = dict.fromkeys(slot for pattern in standing for slot in pattern.slots)
        return tuple(name for name in names if name not in self.default)

    def _filled(self, row: Mapping[str, str]) -> Mapping[str, str]:
        if not self.default:
            return row
        blank = {slot: text for slot, text in self.default.items() if not row.get(slot, "").strip()}
        return {**row, **blank}

    def _standing(self, row: Mapping[str, str]) -> Sequence[TurnPattern]:
        if self._always_needed is not None:
            return self.turn
        return [p for p in self.turn if not p.needs or _is_filled(p.needs, row)]


def outline_of(turns: Sequence[Turn]) -> Outline:
    """Return the outline of turns."""
    roles, _, learned, is_open = zip(*turns, strict=True) if turns else ((), (), (), ())
    return Outline(roles, learned, is_open)


def _is_filled(slot: str, row: Mapping[str, str]) -> bool:
    return bool(slot) and bool(row.get(slot, "").strip())


def _slots_of_parts(parts: tuple[Part, ...]) -> list[str]:
    return [name for part in parts for name in (part.slot, *slots_of(part.text))]


def _standing_parts(parts: tuple[Part, ...], row: Mapping[str, str]) -> str:
    return "".join(part.text.format_map(row) for part in parts if _is_filled(part.slot, row))


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
        path = path_from(folder, use)
    return template_from_mapping(read_toml(path), str(path))


def template_from_mapping(values: Mapping[str, Any], where: str) -> Template:
    """Parse and check a template; raises InputError naming the turn."""
    template = read_settings(Template, {**values, "turn": _learned_by_default(values.get("turn"))}, where)
    for number, pattern in enumerate(template.turn, 1):
        _check_turn(pattern, f"{where}, turn {number}")
    for slot in template.default:
        if slot not in template.slots():
            raise InputError(where, "default", "a slot of the template", slot, near_name(slot, template.slots()))
    numbered = list(enumerate(template.turn, 1))
    last = [max((number for number, pattern in numbered if pattern.learned), default=0)]
    for key in ("rejected", "open"):
        having = [number for number, pattern in numbered if getattr(pattern, key)]
        if having and having != last:
            raise InputError(where, key, "one, in the last learned turn", f"turn {having[0]}", "move it there")
    if not any(pattern.learned and (pattern.each or not pattern.needs) for pattern in template.turn):
        raise InputError(where, "turns", "at least one learned turn that always stands", None, "add `learned = true`")
    return template


def _learned_by_default(turns: Any) -> Any:
    """Return turns in which a whole conversation is learned unless it says that it is not."""
    if not isinstance(turns, list):
        return turns
    return [{"learned": True, **turn} if isinstance(turn, Mapping) and turn.get("each") else turn for turn in turns]


def _check_turn(pattern: TurnPattern, place: str) -> None:
    for text in (pattern.text, pattern.rejected, *(part.text for part in (*pattern.before, *pattern.when))):
        try:
            slots_of(text)
        except ValueError as error:
            raise InputError(place, "text", "text with {slots}", text, str(error)) from None
    if pattern.each:
        if pattern.role or pattern.text:
            todo = "give it a turn of its own"
            raise UsageError(place, "each", "a turn without role and text", pattern.role, todo)
        check_roles(pattern.roles, place)
        return
    if pattern.roles:
        raise UsageError(place, "roles", "a turn with each", list(pattern.roles), "give this turn its role")
    if pattern.role not in ROLES:
        raise UsageError(place, "role", " or ".join(ROLES), pattern.role, near_name(pattern.role, ROLES))
    if pattern.rejected and not pattern.learned:
        raise UsageError(place, "rejected", "a worse reply of a learned turn", pattern.rejected, "add `learned = true`")
    if pattern.learned and pattern.role != "assistant":
        raise InputError(place, "learned", "learned assistant turns", pattern.role, "learn replies only")
