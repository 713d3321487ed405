"""The scorecard as Markdown: the figures, what they mean, where it fails, then answers side by side."""

from __future__ import annotations

import json
from collections import Counter
from collections.abc import Iterable, Mapping, Sequence

from .card import FEW_ROWS, Difference, Scorecard
from .intervals import Interval
from .measures import Reply, label_pair
from .words import (
    asking_lines,
    failures,
    floor_name,
    judge_lines,
    telling_floors,
    verdict_lines,
    warning_lines,
)

Table = tuple[list[str], list[list[str]]]
# Of more labels than these a square of confusions is no help.
MOST_LABELS = 12


def figure_rows(card: Scorecard) -> Table:
    """Return header and cells: a line for each contender, then for each floor that tells something.

    Figures have their intervals, and measures an arrow for the good direction.
    """
    measures = dict.fromkeys(name for score in card.contenders for name in score.measures)
    better = card.signed.get("higher_is_better", {})
    header = ["contender", "prompt tokens", *(f"{m} {'↑' if better.get(m, True) else '↓'}" for m in measures)]
    priced = any(score.cost is not None for score in card.contenders)
    texts = dict.fromkeys(text for s in card.contenders for text, one in s.general.items() if isinstance(one, Interval))
    lines = []
    for score in card.contenders:
        cells = [score.name, f"{score.prompt_tokens:.0f}" if score.prompt_tokens else "–"]
        cells += _with_intervals(score.measures, measures)
        cells += [_loss_of(score.general.get(text)) for text in texts]
        cells += ["–" if score.cost is None else f"{score.cost:.3g}"] if priced else []
        lines.append(cells)
    others = ["–"] * (len(texts) + priced)
    for floor in telling_floors(card):
        lines.append([floor_name(floor), "–", *_with_intervals(floor.measures, measures), *others])
    general = ["general text loss ↓"] if len(texts) == 1 else [f"loss on {text} ↓" for text in texts]
    return [*header, *general, *(["cost of 1,000 ↓"] if priced else [])], lines


def with_interval(figure: Interval) -> str:
    """Write a figure with its interval."""
    return f"{figure.value:.3f} ({figure.low:.3f}–{figure.high:.3f})"


def _with_intervals(figures: Mapping[str, Interval], names: Iterable[str]) -> list[str]:
    return [with_interval(figures[name]) if name in figures else "–" for name in names]


def group_rows(card: Scorecard) -> Table:
    """Return header and cells: a line for each contender and group; groups of few rows are marked."""
    return _part_rows(str(card.signed["by"]), card.by_counts, {s.name: s.by for s in card.contenders})


def far_rows(card: Scorecard) -> Table:
    """Return header and cells: the rows nearest to train, about half of them, and the others."""
    return _part_rows("to train", card.far_counts, {score.name: score.far for score in card.contenders})


def field_rows(card: Scorecard) -> Table:
    """Return header and cells: a line for each contender, the share right of each field."""
    names = list(card.contenders[0].fields)
    return ["contender", *names], [[s.name, *(f"{s.fields[n]:.3f}" for n in names)] for s in card.contenders]


def confusion_rows(card: Scorecard) -> Table:
    """Return header and cells: for each right label how often each one was answered by the last contender.

    No lines where labels are not scored, or there are too many of them.
    """
    last = card.contenders[-1].name
    if not {"label", "f1"} & set(card.contenders[-1].measures):
        return [], []
    after = card.signed.get("settings", {}).get("after", "")
    replies = (Reply(row["target"], row["contenders"][last]["answer"]) for row in card.rows)
    pairs = [label_pair(reply.behind(after)) for reply in replies]
    labels = sorted({target for target, _ in pairs})
    if len(labels) > MOST_LABELS:
        return [], []
    counts = Counter((target, answer if answer in labels else "") for target, answer in pairs)
    others = [""] if any(not answer for _, answer in counts) else []
    lines = [[target, *(str(counts[target, answer]) for answer in (*labels, *others))] for target in labels]
    return ["", *labels, *(["another"] if others else [])], lines


def all_lines(card: Scorecard, enough: float = 0.9) -> list[str]:
    """Return everything that is said of the card in words."""
    before = asking_lines(card, enough) if not card.signed.get("adapter") else []
    return [*before, *verdict_lines(card), *judge_lines(card), *warning_lines(card)]


def tables(card: Scorecard) -> dict[str, Table]:
    """Return every table of the card by its title."""
    return main_tables(card) | _more_tables(card)


def main_tables(card: Scorecard) -> dict[str, Table]:
    """Return the tables that a terminal has room for: the figures, by field, by group."""
    found = {f"Scorecard on {card.n_rows} test rows": figure_rows(card)}
    if card.contenders[0].fields:
        found["By field, share right"] = field_rows(card)
    if card.by_counts:
        found[f"By {card.signed['by']}"] = group_rows(card)
    return found


def _more_tables(card: Scorecard) -> dict[str, Table]:
    found: dict[str, Table] = {}
    if card.far_counts:
        found["Near to train and far from it"] = far_rows(card)
    square = confusion_rows(card)
    if square[1]:
        found[f"Labels of {card.contenders[-1].name}: a line for each right one, a column for each answer"] = square
    if card.confused:
        often = [one for one in card.confused if one[2] > 1] or card.confused[:3]
        lines = [[target, answer, str(count)] for target, answer, count in often[:10]]
        found["Most often confused"] = (["target", "answer", "rows"], lines)
    if card.suspects:
        lines = [[str(one["row"]), f"{one['loss']:.3f}", one["reply"]] for one in card.suspects]
        found["Rows of train that stay hard: look at them with foldkit review"] = (["row", "loss", "reply"], lines)
    return found


def scorecard_markdown(card: Scorecard, enough: float = 0.9, most: int = 12) -> str:
    """Return the whole page; `most` is how many rows are shown side by side."""
    (first, figures), *others = tables(card).items()
    parts = [f"# {first}", _table(*figures)]
    parts.append(
        f"Intervals are 95%, by {_resampled(card)}; better or worse where the interval leaves out zero and the paired "
        "test, corrected over measures (Holm), agrees; one training seed, others not covered."
    )
    parts.append("\n".join(f"- {line}" for line in all_lines(card, enough)))
    for title, table in others:
        parts += [f"## {title}", _table(*table)]
    for name, places in failures(card).items():
        title = {"worst": "Worst rows", "losses": "Biggest losses", "wins": "Biggest wins"}[name]
        parts += [f"## {title}: {', '.join(str(card.rows[place]['row']) for place in places)}"] if places else []
    shown = list(dict.fromkeys([*(p for places in failures(card).values() for p in places), *range(len(card.rows))]))
    parts += ["## Side by side", *(_side_by_side(card, index) for index in shown[:most])]
    if most < len(card.rows):
        parts.append(f"{len(card.rows) - most} more rows stand in the file of rows beside this one.")
    parts += ["## Signed", "```json\n" + json.dumps(card.signed, indent=2, ensure_ascii=False) + "\n```"]
    return "\n\n".join(part for part in parts if part) + "\n"


def _part_rows(title: str, counts: Mapping[str, int], by: Mapping[str, Mapping[str, Mapping[str, float]]]) -> Table:
    measures = list(dict.fromkeys(m for parts in by.values() for figures in parts.values() for m in figures))
    lines = [
        [value, name, f"{count}{' (few)' if count < FEW_ROWS else ''}"]
        + [f"{parts[value][m]:.3f}" if m in parts[value] else "–" for m in measures]
        for value, count in counts.items()
        for name, parts in by.items()
    ]
    return [title, "contender", "rows", *measures], lines


def _loss_of(one: Interval | Difference | None) -> str:
    return f"{one.value:.3f}" if isinstance(one, Interval) else "–"


def _resampled(card: Scorecard) -> str:
    return f"{card.n_rows} rows" if card.n_groups == card.n_rows else f"{card.n_groups} groups of rows"


def _side_by_side(card: Scorecard, index: int) -> str:
    row = card.rows[index]
    lines = [["prompt", row["prompt"]], ["target", row["target"]]]
    lines += [[name, answer["answer"]] for name, answer in row["contenders"].items()]
    return f"### Row {row['row']}\n\n" + _table(["", "text"], lines)


def _table(header: Sequence[str], lines: Sequence[Sequence[str]]) -> str:
    rows = [header, ["---"] * len(header), *lines]
    return "\n".join("| " + " | ".join(_cell(cell) for cell in row) + " |" for row in rows)


def _cell(text: str) -> str:
    return text.replace("|", "\\|").replace("\n", "<br>")
