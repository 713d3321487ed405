"""The scorecard as Markdown: the figures, then answers side by side."""

from __future__ import annotations

from collections.abc import Mapping, Sequence

from .intervals import Interval
from .measures import MEASURES
from .scorecard import ContenderScore, Scorecard


def figure_rows(card: Scorecard) -> tuple[list[str], list[list[str]]]:
    """Return header and cells: a line for each contender, its figures with intervals, arrows for the good direction."""
    measures = list(card.contenders[0].measures)
    header = ["contender", "prompt tokens", *(f"{m} {'↑' if MEASURES[m].higher_is_better else '↓'}" for m in measures)]
    general = any(score.general_loss is not None for score in card.contenders)
    lines = []
    for score in card.contenders:
        cells = [score.name, f"{score.prompt_tokens:.0f}", *(with_interval(score.measures[m]) for m in measures)]
        if general:
            cells.append("–" if score.general_loss is None else f"{score.general_loss:.3f}")
        lines.append(cells)
    return [*header, "general text loss ↓"] if general else header, lines


def with_interval(figure: Interval) -> str:
    """Write a figure with its interval."""
    return f"{figure.value:.3f} ({figure.low:.3f}–{figure.high:.3f})"


def group_rows(card: Scorecard) -> tuple[list[str], list[list[str]]]:
    """Return header and cells: a line for each contender and group."""
    measures = list(card.contenders[0].measures)
    header = [str(card.signed["by"]), "rows", "contender", *measures]
    lines = [
        [value, str(count), score.name, *(f"{score.by[value][m]:.3f}" for m in measures)]
        for value, count in card.by_counts.items()
        for score in card.contenders
    ]
    return header, lines


def field_rows(card: Scorecard) -> tuple[list[str], list[list[str]]]:
    """Return header and cells: a line for each contender, the share right of each field."""
    names = list(card.contenders[0].fields)
    return ["contender", *names], [[s.name, *(f"{s.fields[n]:.3f}" for n in names)] for s in card.contenders]


def verdict_lines(card: Scorecard) -> list[str]:
    """Say for each contender what its differences from the base mean."""
    return [line for score in card.contenders[1:] for line in [_verdict(card, score)] if line]


def scorecard_markdown(card: Scorecard, prompts: Sequence[str], most: int = 12) -> str:
    """Return the whole page; `prompts` has the text of every row's prompt, `most` is how many rows are shown."""
    parts = [f"# Scorecard on {card.n_rows} test rows", _table(*figure_rows(card))]
    parts.append("Intervals are 95%, from resampling " + _resampled(card) + "; one training seed, others not covered.")
    parts.append("\n".join(f"- {line}" for line in verdict_lines(card)))
    if card.contenders[0].fields:
        parts += ["## By field, share right", _table(*field_rows(card))]
    if card.by_counts:
        parts += [f"## By {card.signed['by']}", _table(*group_rows(card))]
    parts += ["## Side by side", *(_side_by_side(card, i, prompts[i]) for i in range(min(most, len(card.rows))))]
    if most < len(card.rows):
        parts.append(f"{len(card.rows) - most} more rows stand in the file of rows beside this one.")
    parts += ["## Signed", "```json\n" + _signed(card.signed) + "\n```"]
    return "\n\n".join(part for part in parts if part) + "\n"


def _verdict(card: Scorecard, score: ContenderScore) -> str:
    base = card.contenders[0].name
    words: dict[str, list[str]] = {}
    for name, difference in score.differences.items():
        sign = "+" if difference.interval.value >= 0 else ""
        words.setdefault(difference.word, []).append(f"{name} {sign}{difference.interval.value:.3f}")
    said = [f"{word} than {base}: {', '.join(words[word])}" for word in ("better", "worse") if word in words]
    if "cannot tell" in words:
        said.append(f"these rows cannot tell: {', '.join(words['cannot tell'])}")
    return f"{score.name} is {'; '.join(said)}." if said else ""


def _resampled(card: Scorecard) -> str:
    return f"{card.n_rows} rows" if card.n_groups == card.n_rows else f"{card.n_groups} groups of rows"


def _side_by_side(card: Scorecard, index: int, prompt: str) -> str:
    row = card.rows[index]
    lines = [["prompt", prompt], ["target", row["target"]]]
    lines += [[name, answer["answer"]] for name, answer in row["contenders"].items()]
    return f"### Row {row['row']}\n\n" + _table(["", "text"], lines)


def _table(header: Sequence[str], lines: Sequence[Sequence[str]]) -> str:
    rows = [header, ["---"] * len(header), *lines]
    return "\n".join("| " + " | ".join(_cell(cell) for cell in row) + " |" for row in rows)


def _cell(text: str) -> str:
    return text.replace("|", "\\|").replace("\n", "<br>")


def _signed(values: Mapping[str, object]) -> str:
    import json

    return json.dumps(values, indent=2, ensure_ascii=False)
