"""Tables of rows to examples: rendered and tokenised together; what cannot be used is set aside with its reason."""

from __future__ import annotations

import functools
import re
from collections.abc import Iterable, Iterator, Mapping, Sequence
from concurrent.futures import Future, ThreadPoolExecutor
from dataclasses import dataclass, field
from typing import NamedTuple

import pandas as pd

from foldkit.formats import InputError, read_messages
from foldkit.rows import Rows
from foldkit.rows.tables import rows_of
from foldkit.templates import Outline, Template
from foldkit.tokens import Encoder, Layout, Place, TextTokenizer

from .examples import Examples
from .pairs import check_slots, is_blank


@dataclass(frozen=True)
class SetAside:
    """A row that is in no part, and why."""

    row: int
    reason: str
    cells: Mapping[str, str] = field(default_factory=dict)


# What can be odd in a row that is coded, by name: what is said of it.
ODD = {
    "prompt ends in a blank": "the prompt ends in a blank, so its tokens may differ from those at asking",
    "system text in question": "the base's markup takes no system turn: its text stands at the top of the question",
    "opened twice": "the reply begins with what the markup has already opened it with",
    "text left out": "the markup leaves out the beginning of a text before the reply",
    "earlier openings": "the markup opens replies before the last one otherwise than when they are asked for",
    "lossy text": "the tokenizer does not give the learned text back exactly",
}

# What is to be said of markup that has an end of its own.
OWN_END = "the base's markup closes replies with a token that its files name as no end; it is learned, and ends answers"


@dataclass(frozen=True)
class Coded:
    """What a table became; `odd` are the rows of which something is to be said, by the names of ODD."""

    examples: Examples
    set_aside: tuple[SetAside, ...]
    odd: Mapping[str, Sequence[int]]


@dataclass(frozen=True)
class Coder:
    """What turns rows into examples: the template, the encoder of a base, and the longest example in tokens.

    With `paired` each row needs a rejected reply too, or with `either` the one reply or the other; the longest is then
    that of prompt and both replies.
    """

    template: Template
    encoder: Encoder
    window: int
    paired: bool = False
    either: bool = False

    def only_rejected(self, values: Mapping[str, str]) -> bool:
        """Whether a row has a rejected reply alone, and may have."""
        return self.either and is_blank(values, self.template.reply_slots())


def code_rows(table: pd.DataFrame, coder: Coder) -> Coded:
    """Render and encode every row of a table.

    A row with a blank where its template needs text, one with no reply, one that the markup does not take as it is, and
    one longer than the window are set aside by name. Raises InputError when the template names a column that the rows
    do not have, and when the markup takes none of them.
    """
    laid = _lay_out(table, coder)
    if laid.unusable and not laid.rows:
        raise laid.unusable
    return _coded(laid, coder.encoder.tokenizer.encode_texts(laid.texts, laid.places), coder)


def code_stream(chunks: Iterable[Rows], coder: Coder) -> Iterator[tuple[Rows, Coded]]:
    """Yield each piece of a source with what it became; while one is tokenised the next is read and rendered.

    Raises what `code_rows` does, for all pieces taken together.
    """
    encode = coder.encoder.tokenizer.encode_texts
    waiting: list[tuple[Rows, _Laid, Future[list[list[int]]]]] = []
    n_rows, unusable = 0, None
    with ThreadPoolExecutor(1) as pool:
        for chunk in chunks:
            laid = _lay_out(chunk.table, coder)
            n_rows, unusable = n_rows + len(laid.rows), unusable or laid.unusable
            waiting.append((chunk, laid, pool.submit(encode, laid.texts, laid.places)))
            if len(waiting) > 1:
                done, before, coded = waiting.pop(0)
                yield done, _coded(before, coded.result(), coder)
        for done, before, coded in waiting:
            yield done, _coded(before, coded.result(), coder)
    if unusable and not n_rows:
        raise unusable


class _Row(NamedTuple):
    """A row that can be encoded."""

    row: int
    layout: Layout
    texts: Sequence[str]
    rejected: str = ""
    only_rejected: bool = False
    left_out: bool = False

    @property
    def all_texts(self) -> Sequence[str]:
        """Every text to be tokenised: those of the turns, then the rejected reply where there is one."""
        return [*self.texts, self.rejected] if self.rejected else self.texts

    @property
    def places(self) -> Sequence[Place]:
        """Where each of them stands, the rejected reply as the one that it is held against."""
        own = self.layout.places
        return (*own, own[-1]) if self.rejected else own


@dataclass(frozen=True)
class _Laid:
    """A table before it is tokenised: the rows that can be, the reasons of the others, and all cells by row.

    `unusable` is what the markup has against the last row that it does not take.
    """

    rows: list[_Row]
    reasons: dict[int, str]
    cells: dict[int, dict[str, str]]
    unusable: InputError | None

    @property
    def texts(self) -> list[str]:
        """Every text to be tokenised, in order."""
        return [text for one in self.rows for text in one.all_texts]

    @property
    def places(self) -> list[Place]:
        """Where each of them stands."""
        return [place for one in self.rows for place in one.places]


def _lay_out(table: pd.DataFrame, coder: Coder) -> _Laid:
    check_slots(table, coder.template)
    cells, rows, reasons, unusable = dict(rows_of(table)), list[_Row](), dict[int, str](), None
    for row, values in cells.items():
        try:
            found = _row(row, values, coder)
        except InputError as error:  # a markup that does not take these roles, or would change a text
            found = str(unusable := error)
        if isinstance(found, str):
            reasons[row] = found
        else:
            rows.append(found)
    return _Laid(rows, reasons, cells, unusable)


def _row(row: int, values: Mapping[str, str], coder: Coder) -> _Row | str:
    """Return a row that can be encoded, or the reason why it cannot be used."""
    found = _outlined(values, coder)
    if isinstance(found, str):
        return found
    layout, texts = coder.encoder.laid_out(*found)
    alone = coder.only_rejected(values)
    rejected = "" if alone else _rejected(values, coder, found[0], texts)
    left_out = layout.asked.looked and any(
        len(t.strip()) > len(k.strip()) for t, k in zip(found[1], texts, strict=False)
    )
    return _Row(row, layout, texts, rejected, alone, left_out)


def _rejected(values: Mapping[str, str], coder: Coder, outline: Outline, texts: Sequence[str]) -> str:
    """Return the worse reply as the markup keeps it in the place of the last learned one, "" where none is wanted."""
    if not coder.paired or is_blank(values, coder.template.rejected_slots()):
        return ""
    return coder.encoder.laid_out(outline, [*texts[:-1], coder.template.rejected(values)])[1][-1]


def _coded(laid: _Laid, coded: Sequence[list[int]], coder: Coder) -> Coded:
    tokenizer, above = coder.encoder.tokenizer, coder.encoder.markup.system_above
    examples, too_long = _joined(laid.rows, coded, coder.window)
    reasons = laid.reasons | too_long
    used = [one for one in laid.rows if one.row not in too_long]
    odd = {
        "prompt ends in a blank": [one.row for one in used if _ends_in_a_blank(one)],
        "system text in question": [one.row for one in used if above and one.layout.roles[0] == "system"],
        "opened twice": [one.row for one in used if _is_opened_twice(one)],
        "text left out": [one.row for one in used if one.left_out],
        "earlier openings": [one.row for one in used if one.layout.unlike],
        "lossy text": [] if tokenizer.is_byte_level else [one.row for one in used if _loses(one, tokenizer)],
    }
    return Coded(examples, tuple(SetAside(row, reasons[row], laid.cells[row]) for row in sorted(reasons)), odd)


def _outlined(values: Mapping[str, str], coder: Coder) -> tuple[Outline, list[str]] | str:
    """Return the outline and texts of a row's turns, or the reason why it cannot be used."""
    template, needed = coder.template, list(coder.template.needed_slots(values))
    only_rejected = coder.only_rejected(values)
    if only_rejected:
        needed = [slot for slot in needed if slot not in template.reply_slots()]
    if coder.paired and (only_rejected or not coder.either):
        needed += template.rejected_slots()
    if is_blank(values, needed):
        return f"blank: {', '.join(slot for slot in needed if not values[slot].strip())}"
    try:
        outline, texts = template.outlined(values)
    except ValueError as error:
        return str(error)
    if only_rejected:  # it stands where the reply would, until it is tokenised
        texts[max(at for at, learned in enumerate(outline.learned) if learned)] = template.rejected(values)
    if True not in outline.learned:
        others = [one.each for one in template.turn if one.each and read_messages(values[one.each], one.roles) is None]
        return f"no list of messages in {others[0]!r}" if others else "no reply to learn"
    for text, learned in zip(texts, outline.learned, strict=True):
        if learned and not text.strip():
            return "an empty reply"
    return outline, texts


def _joined(laid: Sequence[_Row], coded: Sequence[list[int]], window: int) -> tuple[Examples, dict[int, str]]:
    """Return the examples that fit the window, and the reason for each that does not."""
    rows: list[int] = []
    ids: list[int] = []
    spans: list[int] = []
    rejected: list[int] = []
    ends, span_ends, rejected_ends = [0], [0], [0]
    too_long = {}
    at = 0
    for one in laid:
        texts = coded[at : at + len(one.all_texts)]
        at += len(texts)
        one.layout.join(texts[: len(one.texts)], ids, spans)
        if one.rejected:
            rejected += [*texts[-1], *one.layout.end]
        if one.only_rejected:
            start = ends[-1] + spans[-2]
            rejected += ids[start:]
            del ids[start:]
            spans[-1] = spans[-2]
        length = len(ids) - ends[-1] + len(rejected) - rejected_ends[-1]
        if length > window:
            too_long[one.row] = f"{length} tokens, the window is {window}"
            del ids[ends[-1] :], spans[span_ends[-1] :], rejected[rejected_ends[-1] :]
            continue
        rows.append(one.row)
        ends.append(len(ids))
        span_ends.append(len(spans))
        rejected_ends.append(len(rejected))
    return Examples.of(rows, ids, ends, spans, span_ends, rejected, rejected_ends), too_long


def _ends_in_a_blank(one: _Row) -> bool:
    """Whether the text before the last reply ends in a blank, so that it may be tokenised otherwise at asking."""
    before = one.layout.asked.pieces[-1] or (one.texts[-2] if len(one.texts) > 1 else "")
    return before.endswith((" ", "\t"))


def _is_opened_twice(one: _Row) -> bool:
    """Whether the last reply begins with a word, or a mark with letters, that its opening ends with."""
    return _ends_of(one.layout.asked.pieces[-1]).match(one.texts[-1]) is not None


@functools.lru_cache(maxsize=256)
def _ends_of(opening: str) -> re.Pattern[str]:
    """Return what fits the ends of an opening, of 4 characters or more, that are whole words and have a letter."""
    opening = opening.rstrip()
    starts = (n for n in range(4, len(opening) + 1) if not (opening[-n].isalnum() and opening[-n - 1 : -n].isalnum()))
    ends = [re.escape(opening[-n:]) for n in starts if any(map(str.isalpha, opening[-n:]))]
    no_more = r"(?![^\W_])" if opening[-1:].isalnum() else ""
    return re.compile(rf"\s*(?:{'|'.join(ends) or '(?!)'}){no_more}")


def _loses(one: _Row, tokenizer: TextTokenizer) -> bool:
    layout = one.layout
    learned = [at for at, n in enumerate(layout.closing) if n is not None]
    texts, places = [one.texts[at] for at in learned], [layout.places[at] for at in learned]
    coded = zip(tokenizer.encode_texts(texts, places), texts, places, strict=True)
    return any(
        tokenizer.decode(ids, keep_control=True) not in (text, place.blanks + text) for ids, text, place in coded
    )
