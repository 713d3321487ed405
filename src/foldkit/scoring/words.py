"""What a scorecard means, in words; every claim has its figures."""

from __future__ import annotations

import math
from collections.abc import Mapping, Sequence
from typing import Any

from foldkit.formats import listed
from foldkit.formats.errors import shown
from foldkit.formats.thoughts import behind_thoughts

from .card import FEW_ROWS, ContenderScore, Difference, Floor, Scorecard
from .intervals import Interval
from .scorecard import ALPHA, verdict

# Measures of the target's tokens, not of the answer.
_OF_TARGET = ("loss", "perplexity", "bits", "tokens")
# A measure falls when prompts are reworded by so much of itself before it is spoken of.
_HANGS = 0.1
# Shares of answers that did not end, and that are one and the same, before they are spoken of.
_CUT, _ALIKE = 0.05, 0.2
# What share of targets stand in train before the others are spoken of as labels that do not.
_LABELS = 0.8
# What share of train one reply is, what a column reaches, and of how many pairs length tells the better reply, before
# they are spoken of; what any reaches that does as well as a contender.
_COMMON, _MUCH, _BIASED, _REACHED = 0.2, 0.5, 0.6, 0.1
# Of how many rows or groups a resampled interval can reach as far as it should; see the test of what intervals cover.
_SCATTER = 5


def verdict_lines(card: Scorecard) -> list[str]:
    """Say for each contender what its differences from the base mean, for the last those from what needs no model."""
    base = card.contenders[0].name
    found = [_verdict(card, score.name, base, score.differences) for score in card.contenders[1:]]
    found += [_against_floor(card, floor) for floor in telling_floors(card)]
    return [line for line in found if line]


def telling_floors(card: Scorecard) -> list[Floor]:
    """Return the floors to show: a common reply, a column much like targets, lengths that tell, or one not passed."""
    return [floor for floor in card.floors if _matters(floor)]


def floor_name(floor: Floor) -> str:
    """Name a floor in short, as contenders are named."""
    return {
        "reply": f"always {shown(floor.text, 24)}",
        "column": f"{shown(floor.text, 24)} as it is",
        "length": f"the {floor.text} reply",
    }[floor.kind]


def warning_lines(card: Scorecard) -> list[str]:
    """Say what makes the figures worth less, or what the adapter may have got at a price: leaks, copies, forgetting."""
    last, found = card.contenders[-1], _too_few(card)
    if card.leaks:
        found.append(f"{len(card.leaks)} of {card.n_rows} test rows stand in train too: {'; '.join(card.leaks[:3])}.")
    found += _trained_otherwise(card)
    few = [value for value, count in card.by_counts.items() if count < FEW_ROWS]
    if few:
        found.append(f"Under {FEW_ROWS} rows, which says little: {card.signed['by']} {listed(few)}.")
    if last.copied > card.repeated:  # where targets are, as labels, so are right answers
        shares = f"{last.copied:.1%} of {last.name}'s answers are a reply of train to the letter"
        found.append(f"{shares}, and {card.repeated:.1%} of the targets.")
    if {"label", "f1"} & set(last.measures) and _LABELS <= card.repeated < 1:
        n_unseen = round((1 - card.repeated) * card.n_rows)
        found.append(f"{n_unseen} of {card.n_rows} test rows have a label that no row of train has.")
    found += _of_answers(card, last)
    found += [_forgot(score, text, one) for score in card.contenders for text, one in _differences(score)]
    for name, count in card.signed.get("left_out", {}).items():
        found.append(f"{count} test rows of {name} can't be used with this base and template, and are left out.")
    if n_train := card.signed.get("not_compared", 0):
        how_many = f"{n_train:,} rows of train and {card.n_rows:,} of test are too many to hold against one another"
        found.append(f"How near test rows are to those of train is not told: {how_many}.")
    found += [line for score in card.contenders for how in score.reworded for line in [_hangs(score, how)] if line]
    return found


def _trained_otherwise(card: Scorecard) -> list[str]:
    """Name contenders that were trained on other rows than those of train, or over the base held in another way."""
    found = [
        f"{name} {how} on other rows, or on another split of them: test rows may be among what it learned."
        for name, how in card.signed.get("elsewhere", {}).items()
    ]
    return found + [
        f"{name} was trained with base.{setting}={was}, and is scored with {here}: "
        f"--set base.{setting}={was} scores it as foldkit ask has it answer."
        for name, others in card.signed.get("trained_otherwise", {}).items()
        for setting, (was, here) in others.items()
    ]


def _of_answers(card: Scorecard, last: ContenderScore) -> list[str]:
    """Say of answers that they did not end, or are one and the same where targets are not."""
    found, (answer, n_alike) = _lost_in_thoughts(card), last.alike
    if last.cut >= _CUT:
        todo = "an end that was not learned, or [score] max_tokens that is too low for them"
        found.append(f"{last.cut:.1%} of {last.name}'s answers did not end by themselves: {todo}.")
    if answer and n_alike > max(2, 2 * card.alike[1], _ALIKE * card.n_rows):
        same = f"{n_alike} of {last.name}'s {card.n_rows} answers are one and the same, {answer[:40]!r}"
        found.append(f"{same}; the commonest target stands {card.alike[1]} times.")
    return found


def _lost_in_thoughts(card: Scorecard) -> list[str]:
    """Say of every contender how many answers were cut before their thoughts ended, which measures no answer."""
    found = []
    for score in card.contenders:
        n = sum(behind_thoughts(row["contenders"][score.name]["answer"])[1] is None for row in card.rows)
        if n and n >= _CUT * card.n_rows:
            todo = "give [score] more max_tokens, or let the markup ask for none in [base.markup_values]"
            found.append(f"{n} of {score.name}'s {card.n_rows} answers were cut in their thoughts: {todo}.")
    return found


def asking_lines(card: Scorecard, enough: float) -> list[str]:
    """Say whether asking better already does the job, and what an adapter would save in tokens."""
    base = card.contenders[0]
    measure = next((name for name, one in base.measures.items() if name in ("exact", "label", "fields")), "")
    shots = [score for score in card.contenders[1:] if score.prompt_tokens > base.prompt_tokens]
    if not measure or not shots:
        return []
    best = max(shots, key=lambda score: score.measures[measure].value)
    figure = best.measures[measure]
    does = figure.low >= enough
    said = f"{measure} {figure.value:.3f} ({figure.low:.3f}–{figure.high:.3f}), {enough:g} would do"
    word = "already does" if does else "does not do" if figure.high < enough else "may do"
    saved = best.prompt_tokens - base.prompt_tokens
    return [
        f"Asking better {word} the job: {best.name} reaches {said}.",
        f"An adapter that does as well saves {saved:.0f} of {best.prompt_tokens:.0f} prompt tokens a question "
        f"({saved / best.prompt_tokens:.0%}).",
    ]


def judge_lines(card: Scorecard) -> list[str]:
    """Say what a judge could not read, and how pairs went."""
    judge = card.signed.get("judge")
    if not judge:
        return []
    lost = {name: count for name, count in judge["unreadable"].items() if count}
    found = [f"The judge was given about {judge['tokens']:,} tokens."]
    if judge["kept"]:
        of = f"{judge['kept']:,} of its {judge['items']:,} grades"
        found.append(f"{of} are from an earlier scoring, in {judge['kept_at']}: without that file it is asked anew.")
    n_grades = judge["criteria"] * card.n_rows
    found += [f"{n} of {n_grades} grades of {name} could not be read and are left out." for name, n in lost.items()]
    return found + [_pairs(name, pairs, card.n_rows) for name, pairs in judge["pairs"].items()]


def _pairs(name: str, pairs: dict[str, Any], n_rows: int) -> str:
    said = (
        f"Judged against base, {name} won {pairs['wins']}, lost {pairs['losses']}, tied {pairs['ties']}; in "
        f"{pairs['disagreed']} the two orders disagreed, {pairs['unreadable']} could not be read."
    )
    said += _decided(pairs)
    useless = 2 * (pairs["disagreed"] + pairs["unreadable"]) > n_rows
    return f"{said} This judge can't tell most answers apart: its grades mean little." if useless else said


def _decided(pairs: Mapping[str, Any]) -> str:
    """Say what share of the pairs that were decided was won, and what that means."""
    if not pairs["share"]:
        return ""
    value, low, high = (pairs["share"][name] for name in ("value", "low", "high"))
    word = verdict(Interval(value - 0.5, low - 0.5, high - 0.5), pairs["p"], higher_is_better=True)
    means = "these rows cannot tell" if word == "cannot tell" else f"it is {word}"
    return f" Of those decided it won {value:.3f} ({low:.3f}–{high:.3f}): {means}."


def failures(card: Scorecard, most: int = 5) -> dict[str, list[int]]:
    """Return places of the last contender's worst rows, and of its biggest wins and losses against the base.

    By its first measure of answers, the loss of the target where that is alike.
    """
    last, base = card.contenders[-1].name, card.contenders[0].name
    measures = list(card.contenders[-1].measures)
    main = next((name for name in measures if name not in _OF_TARGET), measures[0])
    loss = "loss" if "loss" in measures else main
    own = [row["contenders"][last] for row in card.rows]
    before = [row["contenders"][base] for row in card.rows]
    better = 1 if card.signed.get("higher_is_better", {}).get(main, True) else -1
    places = range(len(own))
    worst = sorted(places, key=lambda i: (better * own[i][main], -own[i].get(loss, 0.0)))
    found = {"worst": worst[:most]}
    if last != base and main in before[0]:
        gains = [better * (a[main] - b[main]) for a, b in zip(own, before, strict=True)]
        ordered = sorted(places, key=lambda i: gains[i])
        found["losses"] = [i for i in ordered if gains[i] < 0][:most]
        found["wins"] = [i for i in reversed(ordered) if gains[i] > 0][:most]
    return found


def _verdict(card: Scorecard, name: str, other: str, differences: Mapping[str, Difference]) -> str:
    words: dict[str, list[str]] = {}
    for measure, difference in differences.items():
        words.setdefault(difference.word, []).append(_told(measure, difference, card.n_rows))
    said = [f"{word} than {other}: {', '.join(words[word])}" for word in ("better", "worse") if word in words]
    unsure = [f"these rows cannot tell: {', '.join(words['cannot tell'])}"] if "cannot tell" in words else []
    if not said:
        return f"{name} and {other}: {unsure[0]}." if unsure else ""
    return f"{name} is {'; '.join([*said, *unsure])}."


def _against_floor(card: Scorecard, floor: Floor) -> str:
    """Say what is reached without a model, and how the last contender does beside that."""
    what = {
        "reply": f"Always answering {shown(floor.text, 40)}, train's commonest reply ({floor.share:.1%} of all),",
        "column": f"Answering what stands in {shown(floor.text)}, as it is,",
        "length": f"Taking the {floor.text} reply of each pair for the better one",
    }
    reached = listed([f"{name} {figure.value:.3f}" for name, figure in floor.measures.items()])
    verdict = _verdict(card, card.contenders[-1].name, "that", floor.differences)
    return f"{what[floor.kind]} reaches {reached}; {verdict}"


def _matters(floor: Floor) -> bool:
    """Whether a reply is common, a column much like targets, or length tells much; or a contender does no better."""
    level = [name for name, one in floor.differences.items() if one.word != "better"]
    if any(floor.measures[name].value >= _REACHED for name in level):
        return True
    most = max(figure.value for figure in floor.measures.values())
    return {"reply": floor.share >= _COMMON, "column": most >= _MUCH, "length": most >= _BIASED}[floor.kind]


def _too_few(card: Scorecard) -> list[str]:
    """Say that even gains all of one sign could not be told from chance, whose test has two outcomes as far out."""
    n_measures = max((len(score.differences) for score in card.contenders), default=0)
    needed = math.floor(math.log2(2 * n_measures / ALPHA)) + 1 if n_measures else 0
    if card.n_groups >= needed:
        return []
    plural = "s" * (card.n_groups != 1)
    units = f"row{plural}" if card.n_groups == card.n_rows else f"group{plural} of rows"
    narrow = f"; resampled intervals of fewer than {_SCATTER} are too narrow" if card.n_groups < _SCATTER else ""
    said = f"No difference can be told of {card.n_groups} {units} by {n_measures} measures"
    return [f"{said}: {needed} or more could do it{narrow}."]


def _told(name: str, difference: Difference, n_rows: int) -> str:
    value, worth = difference.interval.value, difference.worth
    said = f"{name} {'+' if value >= 0 else ''}{value:.3f}"
    if not worth or difference.word != "cannot tell":
        return said
    if -worth < difference.interval.low and difference.interval.high < worth:
        return f"{said} (less than {worth:g} apart)"
    more = difference.rows_needed > n_rows  # else the scatter of these rows says too little
    return f"{said} (about {difference.rows_needed:,} rows would tell {worth:g})" if more else said


def _differences(score: ContenderScore) -> Sequence[tuple[str, Difference]]:
    return [(text, one) for text, one in score.general.items() if isinstance(one, Difference)]


def _forgot(score: ContenderScore, text: str, one: Difference) -> str:
    name, interval = text.removesuffix(", difference"), one.interval
    word = {"forgot": "forgot", "better": "got better at", "cannot tell": "shows no change on"}[one.word]
    ends = f"({interval.low:+.3f} to {interval.high:+.3f})"
    what = "the other rows" if name.endswith(".toml") else "general text"
    return f"{score.name} {word} {what}: loss a token {interval.value:+.3f} {ends} on {name}."


def _hangs(score: ContenderScore, how: str) -> str:
    figures = score.reworded[how]
    for name in ("exact", "label", "fields", "similarity"):
        if name in figures and score.measures[name].value:
            before, after = score.measures[name].value, figures[name]
            word = "falls" if after < before * (1 - _HANGS) else "stays"
            return f"With prompts reworded by {how}, {score.name}'s {name} {word}: {before:.3f}, then {after:.3f}."
    return ""
