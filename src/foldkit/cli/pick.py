"""`foldkit score --pick`: the better of two answers, blind."""

from __future__ import annotations

from typing import TYPE_CHECKING

from .common import headed, out, pressed_key

if TYPE_CHECKING:
    from foldkit.runs import RunFolder
    from foldkit.scoring.picking import BlindPair
    from foldkit.work import Sheet

_KEYS = {"1": "left", "2": "right", "0": "same", "q": "quit"}
_FIRST, _SECOND = "base", "adapter"


def pick_by_hand(sheet: Sheet, run: RunFolder) -> None:
    """Show pairs one after the other, keep each pick, and tell the win share at the end or at a stop."""
    from foldkit.formats import InputError, write_jsonl
    from foldkit.scoring.picking import blind_pairs, keep_pick, preference_rows, read_picks

    if not run.rows.exists():
        raise InputError(run.rows, "scored rows", "the answers of a scoring", None, f"foldkit score {run.path.name}")
    pairs = blind_pairs(run.read_rows(), _FIRST, _SECOND, sheet.score.seed)
    picks = read_picks(run.picks, pairs)
    todo = [pair for pair in pairs if pair.row not in picks]
    for number, pair in enumerate(todo, len(pairs) - len(todo) + 1):
        _show(pair, f"{number} of {len(pairs)}")
        pick = ""
        while not pick:
            pick = _KEYS.get(pressed_key(), "")
        if pick == "quit":
            break
        picks[pair.row] = pick
        keep_pick(run.picks, pair, pick)
    found = preference_rows(pairs, picks)
    write_jsonl(run.path / "picked_pairs.jsonl", found)
    _tell(run, pairs, picks, len(found))


def _show(pair: BlindPair, place: str) -> None:
    console = out()
    console.print(headed(f"\npair {place}"))
    console.print(pair.prompt)
    console.print(headed("\n1"))
    console.print(pair.left or "(nothing)")
    console.print(headed("\n2"))
    console.print(pair.right or "(nothing)")
    console.print("\nwhich is the better one?  1  2  0 neither  q stop")


def _tell(run: RunFolder, pairs: list[BlindPair], picks: dict[int, str], n_rows: int) -> None:
    from foldkit.scoring.picking import agreement, win_share

    console, found = out(), win_share(pairs, picks, _SECOND)
    ends = (
        f", {found.share.value:.2f} ({found.share.low:.2f}–{found.share.high:.2f}) of those decided"
        if found.share
        else ""
    )
    said = f"{_SECOND} won {found.wins}, lost {found.losses}, {found.ties} alike{ends}"
    console.print(f"\n{len(picks)} of {len(pairs)} pairs picked: {said}")
    judge = run.read_scorecard()["signed"].get("judge", {}).get("pairs", {}).get(_SECOND)
    if judge:
        words = dict(zip(judge["rows"], judge["words"], strict=True))
        same, both = agreement(pairs, picks, words, _SECOND)
        console.print(f"the judge said the same in {same} of {both} pairs that both decided")
    if n_rows:
        console.print(
            f"{n_rows} preference rows in {run.path / 'picked_pairs.jsonl'}; they are rows of test: "
            "once trained on, they can't test any more"
        )
