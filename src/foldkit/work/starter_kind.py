"""What kind of rows a table holds: as told, by the names of its columns, or guessed from its cells."""

from __future__ import annotations

import re
from collections.abc import Mapping
from pathlib import Path

import pandas as pd

from foldkit.formats import InputError, UsageError, listed, near_name
from foldkit.rows import (
    KINDS,
    SHAPES,
    WRITERS,
    Kind,
    are_lists_of_messages,
    are_talks,
    are_texts,
    cells_at,
    guess,
    is_few,
    recognise,
    text_paths,
    texts_at,
    usual,
    usual_marks,
)
from foldkit.rows.shapes import ChoicesSettings, are_threads, given_choices, tick_columns, told_grades, told_sides

TOLD, RECOGNISED, GUESSED = (
    "as told",
    "recognised by the names of columns",
    "guessed from the cells, as the usual names of columns are not all there",
)
_ANSWERS, _CHOICES = "answers", "choices"
_ASKED_AND_ANSWERED = ("question", "instruction", "answer", "output")
# Names of labels that notes on a text have too, which are many.
_OFTEN_NOTES = ("topic", "tag", "tags", "labels")
# The name of a column with one choice: A, option_c, choice 2.
_ONE_CHOICE = re.compile(r"((option|choice)[ _-]?)?[a-h]|(option|choice)[ _-]?[1-8]")


def found_kind(table: pd.DataFrame, where: Path, question: str, answer: str) -> tuple[Kind, str]:
    """Return the kind of rows, and how it was found; `question` and `answer` name columns, "" where they are not told.

    Raises UsageError for such a column that is not there, InputError where the rows tell too little.
    """
    plain, whole = _with_paths(table)
    if question or answer:
        return _told(whole, where, question, answer), TOLD
    if kind := _graded(table):
        return kind, RECOGNISED
    if kind := _ticked(whole):
        return kind, GUESSED
    if kind := _recognised(plain) or _recognised(whole):
        kind = _marked(kind, whole)
        answered = _answered(kind, whole)
        return (answered, GUESSED) if answered else (kind, RECOGNISED)
    if kind := guess(whole):
        return _marked(kind, whole), GUESSED
    todo = "name columns with --question and --answer, or write fold.toml by hand: see the README"
    raise InputError(where, "columns", "texts, or a question and its answer", listed(list(whole)), todo)


def _with_paths(table: pd.DataFrame) -> tuple[pd.DataFrame, pd.DataFrame]:
    """Return a table without its lists of answers; and with a column for the first of these, and each text in objects.

    What has the name of one answer is one, a list too.
    """
    columns = {str(name): table[name].tolist() for name in table}
    paths = {name: text_paths(name, cells) for name, cells in columns.items()}
    listed_answers = [name for name, own in paths.items() if own and name.lower() == _ANSWERS]
    more = {
        path: texts_at(table, path) or []
        for name, own in paths.items()
        for path in own
        if name in listed_answers or not path.endswith(".0")
    }
    plain = table.drop(columns=listed_answers)
    return plain, plain.assign(**more)


def _told(table: pd.DataFrame, where: Path, question: str, answer: str) -> Kind:
    named = [name for name in (question, answer) if name]
    for name in named:
        if name not in table:
            raise UsageError(where, "column", "a column of the rows", name, near_name(name, map(str, table)))
    rest = table.drop(columns=named)
    others = [*usual(map(str, rest), "preference", "prompt"), *(own.columns.values() if (own := guess(rest)) else ())]
    if not question or not answer:
        if not others:
            missing = "--answer" if question else "--question"
            raise UsageError(where, missing, "a column of texts beside", listed(named), f"name one with {missing}")
        question, answer = question or others[0], answer or others[-1]
    if is_few(table[answer]):
        return Kind("label", {"text": question, "label": answer})
    return Kind("question", {"question": question, "answer": answer})


def _graded(table: pd.DataFrame) -> Kind | None:
    """Return the kind of prompts with a list of answers each, where these have grades."""
    kind = recognise([str(name) for name in table], ("graded",))
    if kind and told_grades(table, kind.columns["answers"], kind.columns.get("grades", "")):
        return kind
    if kind and "grades" in kind.columns:  # its answers may have grades, too
        return _graded(table.drop(columns=kind.columns["grades"]))
    return None


def _recognised(table: pd.DataFrame) -> Kind | None:
    """Return the kind that the names of columns tell, where their cells do not belie it."""
    kind = _in_columns(table) or recognise([str(name) for name in table])
    if kind and (slot := _belied(kind, table)):
        return _recognised(table.drop(columns=kind.columns[slot]))
    return _settled(kind, table) if kind else None


def _belied(kind: Kind, table: pd.DataFrame) -> str:
    """Return the slot whose column is not what its name says, "" where there is none."""
    if kind.name == "choices" and _CHOICES in kind.columns and not _list(table, kind.columns[_CHOICES]):
        return _CHOICES
    if kind.name == "picked" and not all(told_sides(table[kind.columns["winner"]].tolist()).values()):
        return "winner"
    for slot in ("messages", "history"):
        if slot in kind.columns and not table[kind.columns[slot]].str.match(r"\s*\[").any():
            return slot
    for slot in ("chosen", "rejected"):
        name = kind.columns.get(slot, "")
        if name and name.lower() not in KINDS["preference"][slot] and not are_texts(table[name]):
            return slot
    if kind.columns.get("speaker", "").lower() in WRITERS and not {"talk", "reply_to"} & set(kind.columns):
        return "speaker"
    label = kind.columns.get("label", "")
    return "label" if label.lower() in _OFTEN_NOTES and not is_few(table[label]) else ""


def _settled(kind: Kind, table: pd.DataFrame) -> Kind | None:
    """Return a kind with what cells tell: where the choices stand, and whether prompts or pairs are conversations.

    The times of a transcript that has a column of talks are not asked for.
    """
    columns = kind.columns
    if kind.name == "choices" and _CHOICES in columns:
        return Kind(kind.name, columns | {_CHOICES: _list(table, columns[_CHOICES])})
    if kind.name == "transcript":
        return Kind(kind.name, _of_talks(columns, table))
    if kind.name in ("question", "instruction"):
        return _continued(kind, table)
    if kind.name not in ("preference", "compared", "picked"):
        return kind
    if any(are_talks(table[columns[slot]].tolist()) for slot in ("prompt", "chosen", "first") if slot in columns):
        name = "picked" if kind.name == "picked" else "compared"
        return Kind(name, {slot: column for slot, column in columns.items() if slot not in ("input", "system")})
    return kind if "prompt" in columns and kind.name != "compared" else None


def _continued(kind: Kind, table: pd.DataFrame) -> Kind:
    """Return the kind of conversations with the reply beside them, where that is what questions and answers are."""
    asked, answer = (kind.columns[slot] for slot in KINDS[kind.name] if slot in _ASKED_AND_ANSWERED)
    if not are_lists_of_messages(table[asked].tolist()):
        return kind
    slot = "replies" if are_lists_of_messages(table[answer].tolist()) else "answer"
    system = {"system": kind.columns["system"]} if "system" in kind.columns else {}
    return Kind("continued", {"messages": asked, slot: answer} | system)


def _of_talks(columns: Mapping[str, str], table: pd.DataFrame) -> dict[str, str]:
    """Return those columns that a transcript needs.

    Where messages say which one they answer the talk is asked for only if numbers stand twice without it; where talks
    are told, times are not asked for.
    """
    ways = (("number", "reply_to"), ("number", "reply_to", "talk"), ("talk",), ("time",), ())
    if "talk" in columns and table[columns["talk"]].nunique() < 2:
        columns = {slot: name for slot, name in columns.items() if slot != "talk"}
    way = next(
        way
        for way in ways
        if set(way) <= set(columns) and ("reply_to" not in way or are_threads(table, *(columns[slot] for slot in way)))
    )
    return {slot: columns[slot] for slot in ("speaker", "text", *way)}


def _answered(kind: Kind, table: pd.DataFrame) -> Kind | None:
    """Return the kind of questions that texts by name are, where other texts to their right answer them."""
    guessed = guess(table) if kind.name == "text" else None
    if guessed is None or guessed.name != "question" or guessed.columns["question"] != kind.columns["text"]:
        return None
    names = [str(name) for name in table]
    return guessed if names.index(guessed.columns["answer"]) > names.index(kind.columns["text"]) else None


def _ticked(table: pd.DataFrame) -> Kind | None:
    """Return the kind of texts with a column for each label, where nothing else has the name of what is learned."""
    labels = tick_columns(table)
    rest = table.drop(columns=labels)
    kind = _recognised(rest) or guess(rest)
    if len(labels) < 2 or kind is None or kind.name not in ("text", "label") or usual(map(str, rest), "label", "label"):
        return None
    return Kind("ticked", {"text": kind.columns["text"]} | {f"label {n}": name for n, name in enumerate(labels, 1)})


def _marked(kind: Kind, table: pd.DataFrame) -> Kind:
    """Return the kind of texts in which marks say who speaks, where most of them have such."""
    marks, _ = usual_marks(table[kind.columns["text"]].tolist()) if kind.name == "text" else ({}, [])
    return Kind("marked", kind.columns) if marks else kind


def _in_columns(table: pd.DataFrame) -> Kind | None:
    """Return the kind of questions with a column for each choice, each a slot; None where most answers are none."""
    names = [str(name) for name in table]
    several = [name for name in names if _ONE_CHOICE.fullmatch(name.lower())]
    if len(several) < 2 or _CHOICES in names:
        return None
    kind = recognise([*(name for name in names if name not in several), _CHOICES])
    if kind is None or kind.name != "choices":
        return None
    slots = {slot: name for slot, name in kind.columns.items() if slot != _CHOICES}
    shaped, _ = SHAPES["choices"](table, ChoicesSettings(tuple(several), slots["answer"]))
    slots |= {f"choice {number}": name for number, name in enumerate(several, 1)}
    return Kind("choices", slots) if 2 * len(shaped) > len(table) else None


def _list(table: pd.DataFrame, name: str) -> str:
    """Return the column if most of its cells are lists of texts or several lines, or the longest such list in them."""
    cells = table[name].tolist()
    if 2 * sum(len(given_choices([cell])) > 1 for cell in cells) > len(cells):
        return name
    paths = [path.removesuffix(".0") for path in text_paths(name, cells) if path.endswith(".0")]
    lengths = {path: sum(len(str(cell)) for cell in cells_at({name: cells}, path) or ()) for path in paths}
    return max(paths, key=lambda path: lengths[path], default="")
