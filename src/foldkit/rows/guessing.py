"""A guess from cells alone: what kind of rows they are, and by which columns rows may belong together."""

from __future__ import annotations

import itertools
import re
from collections.abc import Sequence
from typing import Any

import pandas as pd

from .kinds import Kind, usual
from .paths import opened
from .tables import spread_places

_LABELS, _ROWS_A_LABEL = 20, 5
_GROUPS, _ROWS_A_GROUP = 5, (1.2, 50)
_SEEN = 50
# Words in the name of a column that says who judged a text, and how surely.
_BY_WHOM = frozenset({"annotator", "rater", "worker", "labeller", "labeler", "reviewer", "score", "confidence"})
_TWINS = frozenset((("first", "second"), ("1", "2"), ("a", "b"), ("one", "two"), ("left", "right")))
# What may part the values of a cell that is a list of them, and by how many cells from all over that is told at first.
_MARKS, _LISTS = (";", "|", ","), 1000


def guess(table: pd.DataFrame) -> Kind | None:
    """Return the kind of rows that the cells suggest, None where no column holds texts.

    A column with a usual name of a question, an answer or a label is one, and two with usual names of texts of which a
    label is said, or with names alike but for first and second, are both asked about. Else the column with the longest
    texts is the question, the last other one of texts its answer. Where there is no other one, but one of few values,
    these are labels of the texts; or but one of numbers with a fraction, these are the answers. What has the name of a
    question, and no answer, is not learned alone.
    """
    every = {str(name): _filled(table[name]) for name in table.columns}
    cells = {name: own for name, own in every.items() if not own.str.match(r"[\[{]").all()}  # no lists, nothing empty
    words = [name for name, own in cells.items() if not _codes(own)]
    answered = usual(cells, "question", "answer")
    named = [name for name in usual(every, "label", "label") if name in cells or is_few(every[name])]
    open_words = [name for name in words if name not in (*answered, *named) and _texts(cells[name], len(table))]
    asked = usual(open_words, "question", "question")
    texts = [*asked, *answered, *(name for name in open_words if name not in asked)]
    if not texts:
        return Kind("text", {"text": words[0]}) if words and len(every) == 1 else None
    few = sorted((name for name in cells if is_few(cells[name])), key=lambda name: (not _about(name), name in words))
    labels = [*few, *named[:1]]  # the last is taken
    pair = [*usual(texts, "label", "text")[:1], *usual(texts, "label", "input")[:1]]
    if (pair := pair if pair[1:] else _twins(texts)) and labels:
        return Kind("label", dict(zip(("text", "input", "label"), (*pair, labels[-1]), strict=True)))
    answers = answered or ([] if named else [name for name in texts[1:] if name not in asked][-1:])
    text = max(asked or [name for name in texts if name not in answers] or texts, key=lambda name: _length(cells[name]))
    if answers and text not in answers:
        return Kind("question", {"question": text, "answer": answers[0]})
    if labels := [name for name in labels if name != text]:
        return Kind("label", {"text": text, "label": labels[-1]})
    if len(cells) == 2 and (measured := [name for name in cells if name != text and _measures(cells[name])]):
        return Kind("question", {"question": text, "answer": measured[0]})
    return Kind("text", {"text": text}) if text not in usual(texts, "preference", "prompt") else None


def belonging(table: pd.DataFrame, unused: Sequence[str]) -> list[str]:
    """Return those of some columns whose values stand in several rows each: a day, a person, a number of a talk."""
    found = []
    for name in unused:
        own = _filled(table[name])
        n = own.nunique()
        counted = not _numbers(own) or name.lower().endswith("id")
        low, high = _ROWS_A_GROUP
        if counted and n >= _GROUPS and low <= len(own) / n <= high:
            found.append(name)
    return found


def _filled(cells: pd.Series[Any]) -> pd.Series[Any]:
    return cells[cells.str.strip() != ""]


def _numbers(cells: pd.Series[Any]) -> bool:
    return bool(pd.to_numeric(cells, errors="coerce").notna().all())


def _twins(names: Sequence[str]) -> list[str]:
    """Return the two whose names are alike but for a word such as first and second, or a mark such as 1 and 2."""
    parts = {name: re.findall(r"[^\W\d_]+|\d", name.lower()) for name in names}
    for one, other in itertools.combinations(names, 2):
        apart = [both for both in zip(parts[one], parts[other], strict=False) if both[0] != both[1]]
        if len(parts[one]) == len(parts[other]) and len(apart) == 1 and apart[0] in _TWINS:
            return [one, other]
    return []


def _about(name: str) -> bool:
    """Tell whether a column has the name of one that says who judged a text, or how, and not what it is."""
    return not _BY_WHOM.isdisjoint(re.findall(r"[a-z]+", name.lower()))


def _measures(cells: pd.Series[Any]) -> bool:
    """Tell whether cells are numbers with a fraction, which count nothing and name nothing."""
    return _numbers(cells) and bool(cells.str.contains(".", regex=False).any())


def are_numbers(cells: pd.Series[Any]) -> bool:
    """Tell whether all filled cells are numbers."""
    filled = _filled(cells)
    return not filled.empty and _numbers(filled)


def are_texts(cells: pd.Series[Any]) -> bool:
    """Tell whether cells are no numbers or codes, and more than two words that come again and again."""
    filled = _filled(cells)
    return filled.nunique() > 2 and not _codes(filled)


def _codes(cells: pd.Series[Any]) -> bool:
    """Tell whether cells are numbers, times, or single words with a digit in each: names of files, hashes."""
    if _numbers(cells) or cells.str.fullmatch(r"\S*\d\S*").all():
        return True
    return bool(pd.to_datetime(cells.head(_SEEN), errors="coerce", format="mixed", utc=True).notna().all())


def _length(cells: pd.Series[Any]) -> float:
    return float(cells.str.len().median())


def _texts(cells: pd.Series[Any], n_rows: int) -> bool:
    return _length(cells) > 8 and cells.nunique() > 0.5 * n_rows


def is_few(cells: pd.Series[Any]) -> bool:
    """Tell whether cells have so few values, each in so many rows, that they may be labels, or are lists of such."""
    values = listed_values(cells)
    return _few(cells if values is None else values)


def _few(cells: pd.Series[Any]) -> bool:
    n = int(cells.nunique())
    return 2 <= n <= _LABELS and len(cells) >= _ROWS_A_LABEL * n


def listed_values(cells: pd.Series[Any]) -> pd.Series[Any] | None:
    """Return the values in cells that are lists, one after the other; None where cells are no lists of texts.

    They are lists of JSON, or texts with a mark between few values, which come in more than one company.
    """
    filled = _filled(cells)
    if not filled.empty and filled.str.match(r"\s*\[").all():
        return _values_of_json(filled)
    mark = next((mark for mark in _MARKS if filled.str.contains(mark, regex=False).any()), "")
    if not mark:
        return None
    some = filled.iloc[spread_places(len(filled), _LISTS)]
    if _values_between(some, mark) is None:  # as of long texts, whose parts are very many
        return None
    return _values_between(filled, mark)


def _values_between(cells: pd.Series[Any], mark: str) -> pd.Series[Any] | None:
    values = cells.str.split(mark).explode().str.strip()
    return values if values.nunique() < cells.nunique() and _few(values) and not _numbers(values) else None


def _values_of_json(cells: pd.Series[Any]) -> pd.Series[Any] | None:
    lists = cells.map(opened)
    values = lists.explode().dropna()
    of_texts = all(isinstance(one, list) for one in lists) and all(isinstance(value, str) for value in values)
    return values if of_texts and len(values) else None
