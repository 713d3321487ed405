"""What a judge is asked, criteria to grade or the better of two answers to name, and what its words come to.

It is given items and says a text of each; what cannot be read as a grade is counted and never guessed.
"""

from __future__ import annotations

import dataclasses
import re
from collections.abc import Iterable, Sequence
from dataclasses import dataclass
from typing import Any

import numpy as np

from .intervals import Interval, Resamples, paired_test, share_interval
from .measures import Form, Measure, Reply
from .settings import JudgeSettings

Item = dict[str, Any]
MOST = 5
_PASSES = "pass or fail"


@dataclass(frozen=True)
class Preferences:
    """What a judge said of pairs asked in both orders: how many rows, and how many answers could not be read.

    `share` is how much of the rows that were won or lost was won, None where there were none; `p` that of its not
    being a half by chance.
    """

    wins: int
    losses: int
    ties: int
    disagreed: int
    unreadable: int
    share: Interval | None
    p: float


def grade_items(replies: Sequence[Reply], prompts: Sequence[str], settings: JudgeSettings) -> list[Item]:
    """Return an item for each criterion of each reply."""
    return [
        {"id": f"{index}:{name}", "task": "grade", "criterion": name, "question": asked, "scale": _scale(settings)}
        | {"prompt": prompt, "target": reply.target, "answer": reply.answer}
        for index, (reply, prompt) in enumerate(zip(replies, prompts, strict=True))
        for name, asked in settings.criteria.items()
    ]


def graded(replies: Sequence[Reply], texts: Sequence[str], settings: JudgeSettings) -> tuple[list[Reply], int]:
    """Return the replies with the grades of what was said of their items, and how many could not be read.

    A criterion's grade is 1 to 5 taken to 0 to 1, or 1 for pass and 0 for fail.
    """
    grades = [read_grade(text, passes=settings.passes) for text in texts]
    n, found = len(settings.criteria), []
    for index, reply in enumerate(replies):
        own = grades[index * n : (index + 1) * n]
        found.append(dataclasses.replace(reply, grades=dict(zip(settings.criteria, own, strict=True))))
    return found, sum(value is None for value in grades)


def pair_items(first: Sequence[Reply], second: Sequence[Reply], prompts: Sequence[str]) -> list[Item]:
    """Return two items for each row: which of its answers is the better one, asked in both orders."""
    return [
        {"id": f"{index}:{turn}", "task": "compare", "prompt": prompt, "target": a.target}
        | {"first": (a, b)[turn].answer, "second": (b, a)[turn].answer}
        for index, (a, b, prompt) in enumerate(zip(first, second, prompts, strict=True))
        for turn in (0, 1)
    ]


def preferences(texts: Sequence[str], resamples: Resamples) -> tuple[Preferences, list[str]]:
    """Return the counts of what was said of pairs, and a word for each row.

    A win or a loss is one of the second; where the two orders disagree it is neither, and counted.
    """
    picks = [read_pick(text) for text in texts]
    words = [_agreed(picks[index], picks[index + 1]) for index in range(0, len(picks), 2)]
    wins, losses, ties, disagreed, unreadable = map(words.count, ("win", "loss", "tie", "disagreed", "unreadable"))
    gains = np.array([{"win": 1.0, "loss": -1.0}.get(word, 0.0) for word in words])
    share = share_interval((gains > 0).tolist(), resamples, (gains != 0).tolist()) if gains.any() else None
    p = paired_test(gains, resamples, share=True)
    return Preferences(wins, losses, ties, disagreed, unreadable, share, p), words


def estimated_tokens(items: Iterable[Item]) -> int:
    """Return about how many tokens a judge is given with these items, at four characters each."""
    names = ("prompt", "target", "answer", "question", "first", "second")
    return sum(len(item.get(name, "")) for item in items for name in names) // 4


def readable(item: Item, text: str) -> bool:
    """Say whether a text is a grade of an item."""
    if item["task"] == "compare":
        return bool(read_pick(text))
    return read_grade(text, passes=item["scale"] == _PASSES) is not None


def read_grade(text: str, *, passes: bool) -> float | None:
    """Return the grade that a text gives, from 0 to 1, None where it gives none or more than one."""
    if passes:
        said = set(re.findall(r"\b(pass|fail)\b", text.casefold()))
        return float(said == {"pass"}) if len(said) == 1 else None
    found = set(
        re.findall(r"(?<![\d.])[1-5](?![\d.]*\d)(?!\s*(?:/|out of)\s*[0-46-9])", re.sub(r"/\s*5|out of 5", "", text))
    )
    return (float(found.pop()) - 1) / (MOST - 1) if len(found) == 1 else None


def read_pick(text: str) -> str:
    """Return "first", "second" or "same" as a text says, "" where it says none or more than one."""
    said = set(re.findall(r"\b(first|second|same)\b", text.casefold()))
    return said.pop() if len(said) == 1 else ""


def judge_measures(settings: JudgeSettings) -> list[Measure]:
    """Return a measure for each criterion: the mean grade of the answers whose grade could be read."""
    return [_measure(name) for name in settings.criteria]


def question_text(item: Item) -> str:
    """Return an item as a question in words, for a base that grades."""
    if item["task"] == "compare":
        return (
            f"A question was answered twice.\n\nQuestion:\n{item['prompt']}\n\nFirst answer:\n{item['first']}\n\n"
            f"Second answer:\n{item['second']}\n\nWhich answer is the better one? Say first, second or same."
        )
    return (
        f"Question:\n{item['prompt']}\n\nA right answer:\n{item['target']}\n\n"
        f"The answer to grade:\n{item['answer']}\n\n{item['question']} Say {item['scale']}."
    )


def verdicts(task: str, settings: JudgeSettings) -> tuple[str, ...]:
    """Return every answer that a judge may give to a task, `grade` or `compare`."""
    if task == "compare":
        return ("first", "second", "same")
    return ("pass", "fail") if settings.passes else tuple(map(str, range(1, MOST + 1)))


def _scale(settings: JudgeSettings) -> str:
    return _PASSES if settings.passes else f"a number from 1 to {MOST}"


def _agreed(straight: str, turned: str) -> str:
    """Return what both orders say together; in the turned one the first answer is the second one."""
    if not straight or not turned:
        return "unreadable"
    back = {"first": "second", "second": "first", "same": "same"}[turned]
    if straight != back:
        return "disagreed"
    return {"first": "loss", "second": "win", "same": "tie"}[straight]


def _measure(name: str) -> Measure:
    def figure(reply: Reply, form: Form) -> float:
        return reply.grades[name] or 0.0

    def weight(reply: Reply) -> float:
        return float(reply.grades.get(name) is not None)

    return Measure(f"judge {name}", f"mean grade for {name}, from 0 to 1", 0, 1, True, figure, weight, needs="grades")
