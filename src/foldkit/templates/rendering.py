"""Rendering of a Jinja markup in a sandbox, with stand-ins that note what it does with a text beyond writing it."""

from __future__ import annotations

import functools
import re
from collections.abc import Callable, Container, Iterator, Sequence
from dataclasses import dataclass
from typing import Any, NoReturn

from jinja2 import Environment, Template, TemplateError, nodes
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


def render(source: str, roles: Sequence[str], texts: Sequence[str], **values: object) -> str:
    """Return the rendering; raises one of RENDER_ERRORS where the template cannot be used."""
    return _compiled(source).render(messages=_messages(roles, texts), **values)


def shape_of(source: str, roles: Sequence[str], **values: object) -> Shape | None:
    """Render stand-ins and return the shape; None where not every text stands once, in order."""
    seen: set[str] = set()
    environment = _environment()
    for known in (environment.filters, environment.tests):
        uses = dict[str, Any](known)
        known.update({name: _noted(name, used, seen) for name, used in uses.items() if name not in _ALIKE})
    stand_ins = [Watched.whole(index, seen) for index in range(len(roles))]
    rendered = environment.from_string(source).render(messages=_messages(roles, stand_ins), **values)
    pieces = _STAND_IN.split(rendered)
    if [re.sub("\\D", "", piece) for piece in pieces[1::2]] != [str(index) for index in range(len(roles))]:
        return None
    kept = tuple(re.sub("[^slr]", "", piece) for piece in pieces[1::2])
    return Shape(tuple(pieces[::2]), kept, bool(seen) or _loses_sight(environment, source))


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


def _environment() -> ImmutableSandboxedEnvironment:
    def refuse(message: str) -> NoReturn:
        raise TemplateError(message)

    environment = ImmutableSandboxedEnvironment(
        trim_blocks=True, lstrip_blocks=True, extensions=["jinja2.ext.loopcontrols"]
    )
    helpers: dict[str, Any] = {"raise_exception": refuse}
    environment.globals.update(helpers)
    return environment
