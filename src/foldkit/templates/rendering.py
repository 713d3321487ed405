"""Rendering of a Jinja markup in a sandbox, with stand-ins that note what it does with a text beyond writing it."""

from __future__ import annotations

import datetime
import functools
import json
import re
from collections.abc import Callable, Container, Iterator, Mapping, Sequence
from dataclasses import dataclass
from typing import Any, NoReturn

from jinja2 import Environment, Template, TemplateError, meta, nodes
from jinja2.ext import Extension
from jinja2.parser import Parser
from jinja2.sandbox import ImmutableSandboxedEnvironment

# What a rendering of a foreign template may raise, and Python where it is made into a function.
RENDER_ERRORS = (
    TemplateError,
    TypeError,
    ValueError,
    ArithmeticError,
    LookupError,
    AttributeError,
    SyntaxError,
    RecursionError,
)

# The function by which a markup asks for the day, written as it says.
DAY = "strftime_now"

# What turns a watched text into a plain one, of which later looks would not be noted.
_UNWATCHED = (nodes.Concat, nodes.AssignBlock, nodes.Macro, nodes.CallBlock, nodes.FilterBlock)
# Filters and tests for which all texts are alike, or that show in what is written.
_ALIKE = {"trim", "defined", "undefined", "none", "string", "mapping", "iterable", "sequence", "number", "boolean"}
_STAND_IN = re.compile("(\ue0f0[slr]?\\d+\ue0f1)")
_BLANKS: dict[str, Callable[[str], str]] = {"": str, "s": str.strip, "l": str.lstrip, "r": str.rstrip}


@dataclass(frozen=True)
class Shape:
    """How a markup writes turns of given roles.

    `pieces` is the markup before, between and after the texts; `kept` says for each text which blanks are taken off
    it. `looked` is True where the markup did more with a text than that, so that it may write another text otherwise.
    """

    pieces: tuple[str, ...]
    kept: tuple[str, ...]
    looked: bool

    @functools.cached_property
    def plain(self) -> bool:
        """Whether every text is written as it is."""
        return not self.looked and not any(self.kept)

    def texts(self, texts: Sequence[str]) -> list[str]:
        """Return the texts as this shape writes them."""
        return [_BLANKS[kind](text) for kind, text in zip(self.kept, texts, strict=True)]


def ends_in(real: str, pieces: Sequence[str], texts: Sequence[str]) -> list[str] | None:
    """Return what stands between the pieces of a rendering where that is each text, or an end of it; else None.

    Blanks behind a text may be left out too. Of a text that is not blank an end is not either.
    """
    if not real.startswith(pieces[0]):
        return None
    found, at = [], len(pieces[0])
    for number, (text, after) in enumerate(zip(texts, pieces[1:], strict=True), 1):
        last = len(real) - len(after)
        places = [last] if number == len(texts) else range(min(at + len(text), last), at - 1, -1)
        stand = (place for place in places if real.startswith(after, place) and _is_end(real[at:place], text))
        place = next(stand, -1)
        if place < at:
            return None
        found.append(real[at:place])
        at = place + len(after)
    return found


def _is_end(end: str, text: str) -> bool:
    """Say whether a text ends so, blanks behind it aside; more than blanks must be left of one that is more."""
    body, own = text.rstrip(), end.rstrip()
    return bool(own) == bool(body) and body.endswith(own) and text[len(body) :].startswith(end[len(own) :])


class RefusedTurnsError(TemplateError):
    """What a markup itself says of turns that it does not take."""


def render(source: str, roles: Sequence[str], texts: Sequence[str], values: Mapping[str, object]) -> str:
    """Return the rendering; raises one of RENDER_ERRORS where the template cannot be used."""
    return _compiled(source).render(_given_values(values), messages=_messages(roles, texts))


def shape_of(source: str, roles: Sequence[str], values: Mapping[str, object]) -> Shape | None:
    """Render stand-ins and return the shape; None where not every text stands once, in order."""
    pieces, places, kept, looked = _cut(source, roles, values)
    return Shape(pieces, kept, looked) if places == [*range(len(roles))] else None


def ending_of(source: str, roles: Sequence[str], values: Mapping[str, object]) -> Shape | None:
    """Return the shape of the last text alone, whatever becomes of the others; None where it does not stand last."""
    pieces, places, kept, looked = _cut(source, roles, values)
    stands = places[-1:] == [len(roles) - 1] and places.count(len(roles) - 1) == 1
    return Shape(pieces[-2:], kept[-1:], looked) if stands else None


def _cut(
    source: str, roles: Sequence[str], values: Mapping[str, object]
) -> tuple[tuple[str, ...], list[int], tuple[str, ...], bool]:
    """Render stand-ins and cut there.

    Returns the markup around the stand-ins, which stands where, which blanks are taken off it, and whether more was
    done with one.
    """
    seen: set[str] = set()
    environment = _environment()
    for known in (environment.filters, environment.tests):
        uses = dict[str, Any](known)
        known.update({name: _noted(name, used, seen) for name, used in uses.items() if name not in _ALIKE})
    stand_ins = [Watched.whole(index, seen) for index in range(len(roles))]
    rendered = environment.from_string(source).render(_given_values(values), messages=_messages(roles, stand_ins))
    pieces = _STAND_IN.split(rendered)
    places = [int(re.sub("\\D", "", piece)) for piece in pieces[1::2]]
    kept = tuple(re.sub("[^slr]", "", piece) for piece in pieces[1::2])
    return tuple(pieces[::2]), places, kept, bool(seen) or _loses_sight(environment, source)


@functools.lru_cache(maxsize=16)
def names_read(source: str) -> frozenset[str]:
    """Return the names that a template may be given values of, none where it cannot be used."""
    environment = _environment()
    try:
        names = meta.find_undeclared_variables(environment.parse(source))
    except RENDER_ERRORS:
        return frozenset()
    return frozenset(names - set(environment.globals))


@functools.lru_cache(maxsize=16)
def names_set(source: str) -> frozenset[str]:
    """Return the names that a template gives values itself."""
    names = _environment().parse(source).find_all(nodes.Name)
    return frozenset(name.name for name in names if name.ctx == "store")


def needs_the_day(source: str) -> bool:
    """Say whether a template asks for the day without asking first whether it can."""
    if DAY not in names_read(source):
        return False
    tests = _environment().parse(source).find_all(nodes.Test)
    return not any(one.name == "defined" and one.node == nodes.Name(DAY, "load") for one in tests)


def _given_values(values: Mapping[str, object]) -> dict[str, object]:
    """Return the values of a rendering, the day as the function that writes it."""
    given = dict(values)
    if DAY in given:
        given[DAY] = datetime.date.fromisoformat(str(given[DAY])).strftime
    return given


class Watched(str):
    """A stand-in for a text. Taking blanks off shows in what is written; any other look at it is noted in `seen`."""

    __slots__ = ("kind", "seen")
    kind: str | None
    seen: set[str]

    def __new__(cls, text: str, kind: str | None, seen: set[str]) -> Watched:
        """Return the stand-in; `kind` is None for a text that is more than one stand-in."""
        made = super().__new__(cls, text)
        made.kind, made.seen = kind, seen
        return made

    @classmethod
    def whole(cls, index: int, seen: set[str], kind: str = "") -> Watched:
        """Return the stand-in for a whole text; `kind` says which blanks were taken off."""
        return cls(f"\ue0f0{kind}{index}\ue0f1", kind, seen)

    def __getattribute__(self, name: str) -> Any:
        if name not in ("kind", "seen", "_bare", "strip", "lstrip", "rstrip", "__class__"):
            super().__getattribute__("seen").add(name)
        return super().__getattribute__(name)

    def __add__(self, other: str) -> Watched:
        return Watched(str.__add__(self, other), None, self.seen)

    def __radd__(self, other: str) -> Watched:
        return Watched(str.__add__(other, self), None, self.seen)

    def strip(self, chars: str | None = None, /) -> Watched:
        """Return the stand-in with blanks taken off both ends."""
        return self._bare("lr", chars)

    def lstrip(self, chars: str | None = None, /) -> Watched:
        """Return the stand-in with blanks taken off its start."""
        return self._bare("l", chars)

    def rstrip(self, chars: str | None = None, /) -> Watched:
        """Return the stand-in with blanks taken off its end."""
        return self._bare("r", chars)

    def _bare(self, sides: str, chars: str | None) -> Watched:
        if self.kind is None or chars is not None:
            self.seen.add("strip")
            return self
        both = "lr" if self.kind == "s" else self.kind
        ends = "".join(side for side in "lr" if side in both + sides)
        return Watched.whole(int(re.sub("\\D", "", str(self))), self.seen, "s" if ends == "lr" else ends)


def _noting(name: str) -> Callable[..., Any]:
    plain = getattr(str, name)

    def noted(self: Watched, *values: object) -> object:
        self.seen.add(name)
        return plain(self, *values)

    return noted


_COMPARING = ("__eq__", "__ne__", "__lt__", "__le__", "__gt__", "__ge__", "__hash__")
_TAKING = ("__len__", "__contains__", "__getitem__", "__iter__", "__mul__", "__rmul__", "__mod__", "__rmod__")
for _name in (*_COMPARING, *_TAKING, "__format__"):
    setattr(Watched, _name, _noting(_name))


def _noted(name: str, used: Callable[..., Any], seen: set[str]) -> Callable[..., Any]:
    """Return the filter or test, its use noted."""

    @functools.wraps(used)
    def noted(*values: Any, **options: Any) -> Any:
        seen.add(name)
        return used(*values, **options)

    return noted


def _loses_sight(environment: Environment, source: str) -> bool:
    """Say whether a text may be looked at where that is not noted: made a part of a plain one, or given to one."""
    tree = environment.parse(source)
    asking = tree.find_all((nodes.Mod, nodes.Call, nodes.Compare))
    given = (one for node in asking for one in _given(node, environment.globals))
    return any(True for _ in tree.find_all(_UNWATCHED)) or not all(isinstance(one, nodes.Const) for one in given)


def _given(node: nodes.Node, names: Container[str]) -> Iterator[nodes.Node]:
    """Yield what a formatting, a call of a method, or a search is given, none of which a plain text would note.

    What is called by one of the sandbox's own `names`, or sought in a list that stands there, is left out.
    """
    if isinstance(node, nodes.Mod):
        yield node.right
    elif isinstance(node, nodes.Call) and not (isinstance(node.node, nodes.Name) and node.node.name in names):
        yield from node.iter_child_nodes(exclude=("node",))
    elif isinstance(node, nodes.Compare):
        lefts = (node.expr, *(operand.expr for operand in node.ops))
        for left, operand in zip(lefts, node.ops, strict=False):
            if operand.op in ("in", "notin") and not isinstance(operand.expr, nodes.List | nodes.Tuple | nodes.Dict):
                yield left


def _messages(roles: Sequence[str], texts: Sequence[str]) -> list[dict[str, str]]:
    return [{"role": role, "content": text} for role, text in zip(roles, texts, strict=True)]


@functools.lru_cache(maxsize=16)
def _compiled(source: str) -> Template:
    return _environment().from_string(source)


def _json_text(value: Any, indent: int | None = None) -> str:
    return json.dumps(value, ensure_ascii=False, indent=indent)


class _Generation(Extension):
    """`{% generation %}`, which some markups have around what a model is to write: what stands in it, no more."""

    tags = frozenset({"generation"})  # type: ignore[assignment]

    def parse(self, parser: Parser) -> list[nodes.Node]:
        next(parser.stream)
        return parser.parse_statements(("name:endgeneration",), drop_needle=True)


def _environment() -> ImmutableSandboxedEnvironment:
    def refuse(message: str) -> NoReturn:
        raise RefusedTurnsError(message)

    environment = ImmutableSandboxedEnvironment(
        trim_blocks=True, lstrip_blocks=True, extensions=["jinja2.ext.loopcontrols", _Generation]
    )
    environment.filters["tojson"] = _json_text  # Jinja's own is for HTML
    helpers: dict[str, Any] = {"raise_exception": refuse}
    environment.globals.update(helpers)
    return environment
