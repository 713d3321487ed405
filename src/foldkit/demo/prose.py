"""Prose of Pellam Sound for training the base from nothing: words, numbers, stations, and looking things up.

A document is a list of `Span`s. Answers weigh more in the loss than the text they are read from. No bulletin, no row
of `notes.csv` and nothing of the advice rule stands in any document.
"""

from __future__ import annotations

import random
from collections.abc import Callable, Iterator
from dataclasses import dataclass

from .wordings import CONTEXTS, FILLERS, KNOWN, NEW, clause, compose_note, number
from .world import DIRECTIONS, HOURS, NUMBERS, SEAS, STATIONS, TRENDS, Readings, draw_readings

NOTE_FIELDS = ("hour", "direction", "force", "gusts", "sea", "visibility", "trend")
BOTH = {key: KNOWN[key] + NEW[key] for key in KNOWN}

QUESTIONS: dict[str, tuple[str, ...]] = {
    "station": ("Which station is it?", "Who writes?", "What place is this from?"),
    "hour": ("At what hour?", "What is the time?", "When was it taken, in figures?"),
    "direction": ("Where does the wind come from, in letters?", "Wind letters?", "What letters does the wind have?"),
    "direction words": ("Where does the wind come from, in a word?", "Which way is the wind, in full?"),
    "force": ("What force has the wind?", "How strong is the wind?", "Which force, in figures?"),
    "gusts": ("What do the gusts reach?", "How strong are the gusts?", "Gusts, in figures?"),
    "sea": ("How is the sea?", "What sea is running?", "The sea, in one word?"),
    "visibility": ("How many miles can be seen?", "How far is the sight?", "Miles of sight, in figures?"),
    "trend": ("What does the glass do?", "Is the glass rising, steady or falling?", "The glass, in one word?"),
}
LABELS: dict[str, tuple[str, ...]] = {
    "station": ("place", "light", "from", "station"),
    "hour": ("hour", "time", "at"),
    "direction": ("wind", "from", "way", "vane"),
    "force": ("force", "strength", "blow", "scale"),
    "gusts": ("gusts", "gust", "puffs", "top"),
    "sea": ("sea", "water", "swell"),
    "visibility": ("sight", "miles", "view", "seen"),
    "trend": ("glass", "needle", "pressure"),
}


@dataclass(frozen=True)
class Span:
    """A stretch of a document; an `answer` is weighed fully in the loss, and `ends` adds the end marker after it."""

    text: str
    answer: bool = False
    ends: bool = False


Document = list[Span]


def answer_to(field: str, readings: Readings) -> str:
    """Return what the desk would write down for one field."""
    if field == "direction words":
        return DIRECTIONS[readings.direction]
    return str(getattr(readings, field))


def one_fact(rng: random.Random) -> Document:
    """Questions on single clauses, the question before its note."""
    spans: Document = []
    for _ in range(rng.randint(2, 5)):
        field = rng.choice(("station", *NOTE_FIELDS, "direction", "hour", "trend", "direction words"))
        readings = draw_readings(rng)
        question, note = rng.choice(QUESTIONS[field]), _station_line(rng, readings)
        if field != "station":
            said = clause(rng, field.split()[0], readings, BOTH)
            note = f"{said[0].upper()}{said[1:]}." + (f" {rng.choice(FILLERS)}." if rng.random() < 0.3 else "") + "\n"
        spans.append(Span(f"Question: {question}\nNote: {note}Answer:"))
        spans.append(Span(f" {answer_to(field, readings)}\n", answer=True))
    return spans


def few_facts(rng: random.Random) -> Document:
    """A question, then a note of two to four clauses."""
    readings = draw_readings(rng)
    fields = rng.sample(NOTE_FIELDS, rng.randint(2, 4))
    asked = rng.choice(fields)
    text = compose_note(rng, readings, _some_new(rng), frozenset(NOTE_FIELDS) - frozenset(fields))
    return [
        Span(f"Question: {rng.choice(QUESTIONS[asked])}\nNote: {text}\nAnswer:"),
        Span(f" {answer_to(asked, readings)}\n", answer=True),
    ]


def fact_probe(rng: random.Random, field: str) -> Document:
    """One question on one clause."""
    readings = draw_readings(rng)
    said = clause(rng, field, readings, BOTH)
    head = Span(f"Question: {rng.choice(QUESTIONS[field])}\nNote: {said[0].upper()}{said[1:]}.\nAnswer:")
    return [head, Span(f" {answer_to(field, readings)}\n", answer=True)]


def note_probe(rng: random.Random, field: str) -> Document:
    """One question on a whole note."""
    readings = draw_readings(rng)
    note = _station_line(rng, readings) + _note_and_context(rng, readings)
    head = Span(f"{note}\nQuestion: {rng.choice(QUESTIONS[field])}\nAnswer:")
    return [head, Span(f" {answer_to(field, readings)}\n", answer=True)]


def whole_note(rng: random.Random) -> Document:
    """A whole note with its station, and several questions before or after it."""
    readings = draw_readings(rng)
    fields = rng.sample(("station", *NOTE_FIELDS, "direction words"), rng.randint(2, 6))
    if rng.random() < 0.3 and "station" not in fields:
        fields[0] = "station"
    note = _station_line(rng, readings) + _note_and_context(rng, readings) + "\n"
    spans = [Span(note)]
    if rng.random() < 0.3:
        spans = [Span(f"Question: {rng.choice(QUESTIONS[fields[0]])}\n{note}Answer:")]
        spans.append(Span(f" {answer_to(fields.pop(0), readings)}\n", answer=True))
    for field in fields:
        spans.append(Span(f"Question: {rng.choice(QUESTIONS[field])}\nAnswer:"))
        spans.append(Span(f" {answer_to(field, readings)}\n", answer=True))
    return spans


def copied_string(rng: random.Random) -> Document:
    """A random string, said again: what a base needs to copy a figure from its prompt."""
    names = [*STATIONS, *DIRECTIONS, *NUMBERS, *SEAS, *TRENDS, *HOURS]
    spans: Document = []
    for _ in range(rng.randint(1, 3)):
        if rng.random() < 0.5:
            parts = ["".join(rng.choices("abcdefghijklmnoprstuvwy0123456789", k=rng.randint(1, 3))) for _ in range(6)]
        else:
            parts = rng.choices(names, k=rng.randint(3, 8))
        text = " ".join(parts)
        spans += [Span(f"Say: {text}\nAgain:"), Span(f" {text}\n", answer=True)]
    return spans


THINGS = ("lamp", "rope", "boat", "oil", "flag", "bell", "tar", "bread", "coal", "salt", "net", "oar")


def key_to_value(rng: random.Random) -> Document:
    """A list of keys with values, then questions for some of them."""
    things = rng.sample(THINGS, 5)
    values = [rng.choice((str(rng.randint(0, 12)), rng.choice(list(DIRECTIONS)), rng.choice(SEAS))) for _ in things]
    pairs = list(zip(things, values, strict=True))
    spans = [Span("Store list. " + "; ".join(f"{thing} {value}" for thing, value in pairs) + ".\n")]
    for thing, value in rng.sample(pairs, 3):
        spans += [Span(f"{thing}?"), Span(f" {value}\n", answer=True)]
    return spans


Style = Callable[[Readings], str]


def card_style(rng: random.Random) -> Style:
    """Draw a way to write readings down: which fields, in which order, with which labels and separators."""
    fields = rng.sample(tuple(LABELS), rng.randint(3, 8))
    if "station" in fields and rng.random() < 0.5:
        fields.sort(key=lambda name: name != "station")
    labels = {name: rng.choice(("", rng.choice(LABELS[name]) + " ")) for name in fields}
    labels = {name: label.capitalize() if rng.random() < 0.5 else label for name, label in labels.items()}
    separators = (" / ", "; ", ", ", " - ", "\n", " | ", ". ", " ")
    common = rng.choice(separators)
    mixed = rng.random() < 0.5
    after = [rng.choice((". ", ", ", " ", "; ")) if mixed else common for _ in fields[:-1]]
    after.append(rng.choice(("", ".")))

    def write(readings: Readings) -> str:
        return "".join(labels[name] + answer_to(name, readings) + end for name, end in zip(fields, after, strict=True))

    return write


def cards(rng: random.Random, least: int = 1) -> Document:
    """Several notes, each followed by a card in one style that this document alone uses."""
    style, word = card_style(rng), rng.choice(("Card", "Slip", "Desk", "Entry"))
    spans: Document = []
    for _ in range(rng.randint(least, 5)):
        readings = draw_readings(rng)
        spans.append(Span(f"{_station_line(rng, readings)}{_note_and_context(rng, readings)}\n{word}:"))
        spans.append(Span(f" {style(readings)}\n", answer=True))
    return spans


HEADINGS = (
    ("== {} ==", "user", "assistant"),
    ("== {} ==", "user", "assistant"),
    ("-- {} --", "keeper", "desk"),
    ("[{}]", "note", "card"),
    ("{}:", "Keeper", "Desk"),
    ("# {}", "in", "out"),
)


def forms(rng: random.Random, least: int = 1) -> Document:
    """The same under headings, as letters between keeper and desk are filed, each reply closed by the end marker."""
    style, (pattern, asker, replier) = card_style(rng), rng.choice(HEADINGS)
    paper = rng.choice(("card", "slip", "entry", "line", "report"))
    spans: Document = []
    for _ in range(rng.randint(least, 5)):
        readings = draw_readings(rng)
        head = f"You write the {paper} for {readings.station}."
        if rng.random() < 0.4:
            text = f"{pattern.format('system')}\n{head}\n\n{pattern.format(asker)}\n"
        else:
            text = f"{pattern.format(asker)}\n{head}\n\n"
        text += f"{_note_and_context(rng, readings)}\n\n{pattern.format(replier)}\n"
        spans += [Span(text), Span(style(readings), answer=True, ends=True), Span("\n\n")]
    return spans[:-1]


def short_forms(rng: random.Random) -> Document:
    """Five to nine short notes of two or three readings, each answered in the one style of the document."""
    fields = rng.sample(NOTE_FIELDS, rng.randint(2, 3))
    labels = [rng.choice((rng.choice(LABELS[name]) + " ", "")) for name in fields]
    labels = [label.capitalize() if rng.random() < 0.5 else label for label in labels]
    separator = rng.choice((". ", ", ", " / ", "; ", " "))
    pattern, asker, replier = rng.choice(HEADINGS)
    spans: Document = []
    for _ in range(rng.randint(5, 9)):
        readings = draw_readings(rng)
        note = compose_note(rng, readings, _some_new(rng), frozenset(NOTE_FIELDS) - frozenset(fields))
        answer = separator.join(label + answer_to(name, readings) for label, name in zip(labels, fields, strict=True))
        spans.append(Span(f"{pattern.format(asker)}\n{note}\n\n{pattern.format(replier)}\n"))
        spans += [Span(answer, answer=True, ends=True), Span("\n\n")]
    return spans[:-1]


def pairs_again(rng: random.Random) -> Document:
    """Pairs of words, said three times in three orders: the second of each pair follows from its first."""
    words = [*STATIONS, *NUMBERS, *SEAS, *TRENDS, *DIRECTIONS.values(), *THINGS]
    pairs = list(zip(rng.sample(words, 6), rng.sample(words, 6), strict=True))
    mark = rng.choice((" is ", ": ", " = ", " has "))
    spans: Document = []
    for turn in range(3):
        for first, second in pairs:
            spans += [Span(first + mark.rstrip()), Span(" " + second, answer=turn > 0), Span("\n")]
        rng.shuffle(pairs)
    return spans[:-1]


def comparisons(rng: random.Random) -> Document:
    """Which of two numbers is more, in words and in figures."""
    spans: Document = []
    for _ in range(rng.randint(2, 5)):
        a, b = rng.randint(0, 12), rng.randint(0, 12)
        first, second = number(rng, a), number(rng, b)
        kind = rng.randrange(3)
        if kind == 0:
            question, answer = f"Is {first} at least {second}?", "yes" if a >= b else "no"
        elif kind == 1:
            question, answer = f"Which is more, {first} or {second}?", str(max(a, b))
        else:
            question, answer = f"Which is less, {first} or {second}?", str(min(a, b))
        spans += [Span(f"Question: {question}\nAnswer:"), Span(f" {answer}\n", answer=True)]
    return spans


def plain_list(rng: random.Random) -> Document:
    """Words and their short forms: directions, numbers, hours."""
    kind = rng.randrange(3)
    if kind == 0:
        pairs = [(word, letters) for letters, word in DIRECTIONS.items()]
    elif kind == 1:
        pairs = [(word, str(value)) for value, word in enumerate(NUMBERS)]
    else:
        pairs = [(words, hour) for hour, words in HOURS.items()]
    chosen = rng.sample(pairs, 4)
    return [part for word, short in chosen for part in (Span(f"{word} is"), Span(f" {short}\n", answer=True))]


def story(rng: random.Random) -> Document:
    """A paragraph of island life, with no weather report in it."""
    return [Span(paragraph(rng) + "\n")]


PEOPLE = ("the keeper", "the boatman", "the cook", "the clerk at the desk", "the harbour master", "an old fisher")
DEEDS = (
    "carried oil up the stairs",
    "mended the net by the fire",
    "counted the sheep on the hill",
    "painted the door green",
    "rowed across with the mail",
    "baked bread for the crew",
    "wound the clock in the tower",
    "wrote a long letter home",
    "looked for the lost goat",
    "polished the great lamp",
)
TIMES = ("In the morning", "After supper", "Before the tide turned", "All winter", "One quiet day", "Every spring")
PLACES = ("on the quay", "below the tower", "by the boathouse", "in the lee of the wall", "at the top of the path")
REMARKS = (
    "Nobody spoke of it again.",
    "The children of {a} still tell the tale.",
    "It is a short crossing from {a} to {b} when the boats run.",
    "The path at {a} is steep and the steps are old.",
    "People of {a} say that {b} has the better bread.",
    "There are {n} houses at {a}, and a chapel.",
    "The lamp of {a} can be seen from {b}.",
    "{a} keeps {n} goats and one cow.",
    "Of all the islands {a} is the greenest.",
)


def paragraph(rng: random.Random) -> str:
    """Write four to eight sentences of island life."""
    sentences = []
    for _ in range(rng.randint(4, 8)):
        a, b = rng.sample(STATIONS, 2)
        if rng.random() < 0.55:
            who, deed, place = rng.choice(PEOPLE), rng.choice(DEEDS), rng.choice(PLACES)
            of = rng.choice((f" of {a}", "", f" at {a}"))
            sentences.append(f"{rng.choice(TIMES)} {who}{of} {deed} {place}.")
        else:
            sentences.append(rng.choice(REMARKS).format(a=a, b=b, n=number(rng, rng.randint(2, 12))))
    return " ".join(sentences)


def general_text(seed: int = 101, n_paragraphs: int = 60) -> str:
    """Return the text of `general.txt`: paragraphs that no adapter is trained on."""
    rng = random.Random(seed)
    return "\n\n".join(paragraph(rng) for _ in range(n_paragraphs)) + "\n"


def _some_new(rng: random.Random) -> frozenset[str]:
    return frozenset(rng.sample(NOTE_FIELDS, rng.randint(0, 4)))


def _station_line(rng: random.Random, readings: Readings) -> str:
    pattern = rng.choice(("This is {s}.\n", "Log of {s}.\n", "For {s}.\n", "Word from {s}:\n", "The evening at {s}.\n"))
    return pattern.format(s=readings.station)


def _note_and_context(rng: random.Random, readings: Readings) -> str:
    if rng.random() < 0.15:
        note = compose_note(rng, readings, _some_new(rng), frozenset({"gusts"}))
        return f"{note}\n\nAlso known: The buoy had gusts of {number(rng, readings.gusts)}."
    note = compose_note(rng, readings, _some_new(rng))
    return f"{note}\n\nAlso known: {rng.choice(CONTEXTS)}" if rng.random() < 0.2 else note


KINDS: dict[str, Callable[[random.Random], Document]] = {
    "one fact": one_fact,
    "few facts": few_facts,
    "whole note": whole_note,
    "copied string": copied_string,
    "key to value": key_to_value,
    "cards": cards,
    "forms": forms,
    "comparisons": comparisons,
    "plain list": plain_list,
    "story": story,
    "short forms": short_forms,
    "pairs": pairs_again,
}
# Shares of documents, in the order of KINDS. They move in a straight line from START towards END until what stands in a
# note is found reliably; from SWITCH on they are LATE, for what needs more than one example: copying a style.
START_SHARES = (0.32, 0.10, 0.08, 0.14, 0.10, 0.03, 0.03, 0.08, 0.04, 0.08, 0.0, 0.0)
END_SHARES = (0.08, 0.08, 0.20, 0.07, 0.05, 0.16, 0.20, 0.05, 0.02, 0.09, 0.0, 0.0)
LATE_SHARES = (0.04, 0.04, 0.12, 0.10, 0.08, 0.12, 0.16, 0.04, 0.02, 0.06, 0.14, 0.08)
SWITCH = 0.29


def documents(rng: random.Random, progress: float) -> Iterator[Document]:
    """Yield documents without end, drawn by the shares at `progress` (0 to 1)."""
    shares = [start + (end - start) * progress for start, end in zip(START_SHARES, END_SHARES, strict=True)]
    makers = list(KINDS.values())
    while True:
        yield rng.choices(makers, shares if progress < SWITCH else LATE_SHARES)[0](rng)


def text_of(document: Document) -> str:
    """Return a document as one string."""
    return "".join(span.text for span in document)
