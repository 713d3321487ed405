"""Blind picks by a person: pairs in shuffled order and on shuffled sides, kept as they are made."""

from __future__ import annotations

import random
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import Any

from foldkit.formats import InputError, append_jsonl, read_jsonl, write_jsonl

from .intervals import Interval, share_of

PICKS = ("left", "right", "same")


@dataclass(frozen=True)
class BlindPair:
    """Two answers to one row; `sides` names the contender on the left and the one on the right."""

    row: int
    prompt: str
    left: str
    right: str
    sides: tuple[str, str]


@dataclass(frozen=True)
class WinShare:
    """How often the second contender's answer was picked: wins, losses, ties, and its share of those decided."""

    wins: int
    losses: int
    ties: int
    share: Interval | None


def blind_pairs(rows: Sequence[Mapping[str, Any]], first: str, second: str, seed: int) -> list[BlindPair]:
    """Return the rows whose answers differ, in an order and on sides drawn from the seed.

    A row's side does not depend on which others there are. Raises InputError for a contender that the rows lack.
    """
    found = []
    for row in rows:
        for name in (first, second):
            if name not in row["contenders"]:
                known = ", ".join(row["contenders"])
                raise InputError("scored rows", "contender", known, name, "score with it first")
        a, b = (str(row["contenders"][name]["answer"]) for name in (first, second))
        if a.strip() == b.strip():
            continue
        turned = random.Random(f"{seed}:{row['row']}").random() < 0.5
        texts, sides = ((b, a), (second, first)) if turned else ((a, b), (first, second))
        found.append(BlindPair(int(row["row"]), str(row["prompt"]), *texts, sides))
    random.Random(seed).shuffle(found)
    return found


def read_picks(path: Path, pairs: Sequence[BlindPair]) -> dict[int, str]:
    """Return the pick of each row, left, right or same; one of answers that have changed since is passed over."""
    if not path.exists():
        return {}
    by_row = {str(pair.row): pair for pair in pairs}
    lines = read_jsonl(path, tolerate_half_line=True)
    write_jsonl(path, lines)
    found = {}
    for line in lines:
        pair, pick = by_row.get(str(line.get("row"))), line.get("pick")
        if pair and pick in PICKS and [line.get("left"), line.get("right")] == [pair.left, pair.right]:
            found[pair.row] = str(pick)
    return found


def keep_pick(path: Path, pair: BlindPair, pick: str) -> None:
    """Append one pick, with the answers it was made on; which contender gave them is not told."""
    append_jsonl(path, {"row": pair.row, "pick": pick, "left": pair.left, "right": pair.right})


def picked_name(pair: BlindPair, pick: str) -> str:
    """Return the name of the contender that was picked, "" for neither."""
    return "" if pick == "same" else pair.sides[PICKS.index(pick)]


def win_share(pairs: Sequence[BlindPair], picks: Mapping[int, str], second: str) -> WinShare:
    """Return how often the second contender was picked, with its interval over decided pairs."""
    names = [picked_name(pair, picks[pair.row]) for pair in pairs if pair.row in picks]
    wins, ties = names.count(second), names.count("")
    losses = len(names) - wins - ties
    return WinShare(wins, losses, ties, share_of(wins, wins + losses) if wins + losses else None)


def preference_rows(pairs: Sequence[BlindPair], picks: Mapping[int, str]) -> list[dict[str, Any]]:
    """Return a preference row for each decided pair, as the template `preference` reads it."""
    found = []
    for pair in pairs:
        pick = picks.get(pair.row, "same")
        if pick != "same":
            chosen, rejected = (pair.left, pair.right) if pick == "left" else (pair.right, pair.left)
            found.append({"row": pair.row, "question": pair.prompt, "chosen": chosen, "rejected": rejected})
    return found


def agreement(
    pairs: Sequence[BlindPair], picks: Mapping[int, str], words: Mapping[int, str], second: str
) -> tuple[int, int]:
    """Return in how many decided pairs a judge said the same as the picks, and how many both decided.

    `words` are the judge's by row: "win" and "loss" are those of the second contender.
    """
    same = both = 0
    for pair in pairs:
        name, word = picked_name(pair, picks.get(pair.row, "same")), words.get(pair.row)
        if name and word in ("win", "loss"):
            both += 1
            same += (name == second) == (word == "win")
    return same, both
