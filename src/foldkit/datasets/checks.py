"""Checks of what a model would learn from the rows: each finding with its count, rows and one example."""

from __future__ import annotations

import json
import re
import statistics
from collections import Counter, defaultdict
from collections.abc import Callable, Collection, Iterable, Mapping, Sequence
from dataclasses import asdict, dataclass
from pathlib import Path

import numpy as np
import pandas as pd

from foldkit.formats import fingerprint_value, seal, unsealed, write_aside
from foldkit.formats.errors import shown
from foldkit.formats.thoughts import THOUGHT_TAGS
from foldkit.rows import has_turns, listed_values
from foldkit.rows.near import near_texts, plain

from .pairs import Pair, texts_of


@dataclass(frozen=True)
class Finding:
    """Something odd: what it is, in which rows, and one example of it."""

    name: str
    says: str
    rows: tuple[int, ...]
    example: str


# Findings that were kept by checks of another version are found anew.
CHECKS_VERSION = 10
Pairs = Mapping[int, Pair]
_EMAIL = re.compile(r"[\w.+-]+@[\w-]+\.[\w.]+")
_PHONE = re.compile(r"(?<![\w.])(?!\d{4}-\d\d-\d\d)\+?\d[\d ()/-]{7,}\d(?![\w.])")
_TAG = rf"</?(?!(?:{THOUGHT_TAGS})>)[a-z][a-z0-9]*(?:\s[^<>]*)?/?>"
_ENTITY, _CONTROL = r"&(?:amp|lt|gt|quot|nbsp|#\d+);", r"<\|[^|<>]{1,40}\|>"
_MARKUP = re.compile(f"{_TAG}|{_ENTITY}|{_CONTROL}", re.IGNORECASE)
# The replacement character, control characters, and UTF-8 that was read as Latin-1.
_ODD_ALONE = r"\ufffd\u0000-\u0008\u000b\u000c\u000e-\u001f\u007f"
_ODD, _ODD_SIGN = re.compile(rf"[{_ODD_ALONE}]|Ã[\u0080-\u00bf]|â€"), f"[{_ODD_ALONE}Ãâ]"
# A list of messages, written as JSON.
_MESSAGES = re.compile(r'\[\s*\{\s*"(?:role|from|content|value)"\s*:')
_NUMBER, _FRACTION = re.compile(r"\s*[-+]?[\d.,]+\s*"), re.compile(r"[-+]?\d*[.,]\d+")
_COPIED_FROM, _SHORT_SHARE, _FEW_ROWS, _USUAL_ROWS, _FEW_LABELS = 24, 0.1, 50, 200, 12
# Replies are labels where this share of those outside train stand in train.
_LABELS = 0.8


def check_pairs(pairs: Pairs, near: float) -> list[Finding]:
    """Return all findings, in a fixed order; `near` is the likeness from which two rows are near copies."""
    return [finding for check in CHECKS for finding in [check(pairs)] if finding] + _near_copies(pairs, near)


def too_few(n_train: int) -> Finding | None:
    """Say that there are few rows to train on."""
    if n_train >= _USUAL_ROWS:
        return None
    need = f"of under {_FEW_ROWS} little is learned, " if n_train < _FEW_ROWS else ""
    return Finding("few rows", f"{n_train} rows in train: {need}people usually need {_USUAL_ROWS} or more", (), "")


def unseen_labels(pairs: Pairs, train: Collection[int], outside: Collection[int]) -> Finding | None:
    """Say which rows outside train have a label that no row of train has; of texts, measures and lists nothing."""
    replies = [pairs[row].reply for row in train if row in pairs]
    known = set(map(plain, replies))
    others = {row: plain(pairs[row].reply) for row in sorted(outside) if row in pairs}
    hits = [row for row, reply in others.items() if reply not in known]
    if len(hits) > (1 - _LABELS) * len(others) or any(map(_FRACTION.fullmatch, known)):
        return None
    if hits and listed_values(pd.Series(replies, dtype=object)) is not None:
        return None
    says = "outside train, with a label that no row of train has: [split] balance spreads labels over the parts"
    return _finding("unseen label", says, hits, _reply(pairs, hits))


def write_findings(path: Path, made_from: object, findings: Sequence[Finding]) -> None:
    """Keep what was found, and what it was found in."""
    told = [asdict(finding) for finding in findings]
    kept = seal({"made_from": fingerprint_value(made_from), "findings": told})
    write_aside(path, json.dumps(kept, ensure_ascii=False, indent=1) + "\n")


def read_findings(path: Path, made_from: object) -> list[Finding] | None:
    """Return what was found before; None when that was in something else, or is not there."""
    try:
        kept = unsealed(json.loads(path.read_text(encoding="utf-8")))
        if kept is None or kept["made_from"] != fingerprint_value(made_from):
            return None
        return [Finding(**{**finding, "rows": tuple(finding["rows"])}) for finding in kept["findings"]]
    except (OSError, ValueError, LookupError, TypeError):
        return None


def _matching(name: str, says: str, pattern: re.Pattern[str], sign: str) -> Callable[[Pairs], Finding | None]:
    """Return a check for a pattern that fits no text without the `sign`, which is looked for first: that is faster."""
    has_sign = re.compile(sign).search

    def check(pairs: Pairs) -> Finding | None:
        hits = {
            row: match.group()
            for row, pair in pairs.items()
            for text in (pair.reply, pair.prompt)
            if has_sign(text)
            for match in [pattern.search(text)]
            if match
        }
        return _finding(name, says, hits, next(iter(hits.values()), ""))

    return check


def _turns(pairs: Pairs) -> Finding | None:
    hits = [row for row, pair in pairs.items() if has_turns(pair.prompt) or has_turns(pair.reply)]
    says = "marks of who speaks stand in the text, beside the template's turns: [rows.marked] makes turns of them"
    return _finding("turns in a text", says, hits, pairs[hits[0]].reply if hits else "")


def _only_numbers(pairs: Pairs) -> Finding | None:
    lines = {row: pair.prompt.splitlines() + pair.reply.splitlines() for row, pair in pairs.items()}
    hits = [row for row, parts in lines.items() if any(_NUMBER.fullmatch(part) for part in parts)]
    if len(hits) > 0.1 * len(pairs):
        return None
    example = next((part for row in hits[:1] for part in lines[row] if _NUMBER.fullmatch(part)), "")
    return _finding("not text", "a line of nothing but a number, where other rows have text", hits, example)


def _exact(pairs: Pairs) -> Finding | None:
    seen: dict[tuple[str, ...], int] = {}
    texts = {row: (pair.prompt, pair.reply, pair.rejected) for row, pair in pairs.items()}
    hits = [row for row, own in texts.items() if seen.setdefault(tuple(map(plain, own)), row) != row]
    return _finding("duplicates", "prompt and reply stand in an earlier row", hits, _reply(pairs, hits))


def _contradicting(pairs: Pairs) -> Finding | None:
    replies: dict[str, set[str]] = defaultdict(set)
    good = {row: pair for row, pair in pairs.items() if not pair.bad and pair.prompt.strip()}
    for pair in good.values():
        replies[plain(pair.prompt)].add(plain(pair.reply))
    hits = [row for row, pair in good.items() if len(replies[plain(pair.prompt)]) > 1]
    example = " / ".join(pairs[row].reply for row in hits[:2])
    return _finding("contradicting", "the same prompt with different replies", hits, example)


def _copied(pairs: Pairs) -> Finding | None:
    hits = [r for r, p in pairs.items() if len(p.reply) >= _COPIED_FROM and plain(p.reply) in plain(p.prompt)]
    return _finding("copied", "the reply stands in the prompt word for word", hits, _reply(pairs, hits))


def _repeated(pairs: Pairs) -> Finding | None:
    asked = {row: plain(pair.prompt) for row, pair in pairs.items() if len(pair.prompt) >= _COPIED_FROM}
    hits = [row for row, prompt in asked.items() if plain(pairs[row].reply).startswith(prompt)]
    return _finding(
        "prompt repeated", "the reply begins with the whole prompt, and learns it", hits, _reply(pairs, hits)
    )


def _short(pairs: Pairs) -> Finding | None:
    lengths = {row: len(pair.reply.strip()) for row, pair in pairs.items()}
    usual = statistics.median(lengths.values()) if lengths else 0
    hits = [row for row, length in lengths.items() if length < _SHORT_SHARE * usual]
    return _finding(
        "very short", f"a reply under a tenth of the usual {usual:.0f} characters", hits, _reply(pairs, hits)
    )


def swapped(pairs: Pairs) -> Finding | None:
    """Return the rows whose prompt starts as replies usually do, and no prompt does."""
    starts = Counter(pair.reply.split(maxsplit=1)[0].casefold() for pair in pairs.values() if pair.reply.strip())
    asks = Counter(pair.prompt.split(maxsplit=1)[0].casefold() for pair in pairs.values() if pair.prompt.strip())
    usual = {word for word, n in starts.items() if n > 0.3 * len(pairs) and asks[word] < 0.05 * len(pairs)}
    hits = [row for row, pair in pairs.items() if (pair.prompt.split() or [""])[0].casefold() in usual]
    return _finding("swapped", "the prompt begins as replies do", hits, pairs[hits[0]].prompt if hits else "")


def _unbalanced(pairs: Pairs) -> Finding | None:
    labels = Counter(plain(pair.reply) for pair in pairs.values())
    if not 2 <= len(labels) <= _FEW_LABELS or len(pairs) < 10 * len(labels):
        return None
    (most, n_most), (least, n_least) = labels.most_common(1)[0], labels.most_common()[-1]
    if n_most < 5 * n_least:
        return None
    hits = [row for row, pair in pairs.items() if plain(pair.reply) == least]
    says = f"{len(labels)} different replies: {shown(most)} {n_most} times, {shown(least)} {n_least} times"
    return _finding("unbalanced", says, hits, least)


def _near_copies(pairs: Pairs, near: float) -> list[Finding]:
    found = near_texts(texts_of(pairs), near)
    if not len(found.first):
        return []
    later = found.first_near(np.ones(len(found.rows), bool)) < found.rows
    first, second = (found.rows[found.text == number][0] for number in (found.first[0], found.second[0]))
    example = f"rows {first} and {second}, alike {found.likeness[0]:.2f}"
    rows = tuple(found.rows[later].tolist())
    return [Finding("near duplicates", f"alike at least {near:g} to an earlier row", rows, example)]


CHECKS: tuple[Callable[[Pairs], Finding | None], ...] = (
    _only_numbers,
    _exact,
    _contradicting,
    _copied,
    _repeated,
    _short,
    swapped,
    _unbalanced,
    _matching("odd characters", "control or replacement characters, or a wrong encoding", _ODD, _ODD_SIGN),
    _matching(
        "messages as text",
        "a list of messages is learned as it is written: give it a turn with `each`",
        _MESSAGES,
        r"\[",
    ),
    _turns,
    _matching("leftover markup", "tags, entities or control tokens in the text", _MARKUP, "[<&]"),
    _matching("e-mail address", "looks like personal data", _EMAIL, "@"),
    _matching("phone number", "looks like personal data", _PHONE, r"\d[\d ()/-]{7}"),
)


def _finding(name: str, says: str, hits: Iterable[int], example: str) -> Finding | None:
    rows = tuple(hits)
    return Finding(name, says, rows, example) if rows else None


def _reply(pairs: Pairs, hits: list[int]) -> str:
    return pairs[hits[0]].reply if hits else ""
