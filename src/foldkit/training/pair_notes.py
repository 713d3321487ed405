"""What the validations of an objective of pairs show, in words, with their figures; nothing where nothing is clear."""

from __future__ import annotations

import statistics
from collections.abc import Mapping, Sequence

# A chosen reply that lost, or won, so many nats a token; lengths so many times apart; margins that grow past every use.
_DROP, _WON, _APART, _SATURATED = 0.1, 0.02, 1.25, 5.0
_SHORTEST = 0.5  # tokens, for answers of none


def pair_notes(checks: Sequence[Mapping[str, float]]) -> list[str]:
    """Return what is worth knowing of validations in their order, as the run log has them."""
    return [note for note in (_fell(checks), _apart(checks), _saturated(checks)) if note]


def length_note(n_tokens: Sequence[int], n_of_base: Sequence[int], n_chosen: Sequence[int]) -> str:
    """Say that answers drifted in length, "" where they did not, or stayed where the base's are.

    The three are tokens of the adapter's answers, of the base's, and of the chosen replies, to the same prompts.
    """
    answers, of_base, chosen = (statistics.fmean(counts) for counts in (n_tokens, n_of_base, n_chosen))
    ratios = [max(n, _SHORTEST) / chosen for n in (answers, of_base)]
    beyond, of_base_beyond = ratios if answers > chosen else [1 / ratio for ratio in ratios]
    if beyond < _APART * max(1.0, of_base_beyond):
        return ""
    return (
        f"answers drifted in length: {answers:.0f} tokens where the chosen replies have {chosen:.0f} and the base's "
        f"answers {of_base:.0f}, on {len(n_tokens)} prompts of validation: fewer epochs, a greater strength, or the "
        f"objective margin, which counts by the token, hold it"
    )


def _with(checks: Sequence[Mapping[str, float]], *names: str) -> list[Mapping[str, float]]:
    """Return the checks that have all of these figures, none of them null."""
    return [check for check in checks if all(check.get(name) is not None for name in names)]


def _fell(checks: Sequence[Mapping[str, float]]) -> str:
    known = _with(checks, "chosen_log_prob")
    fell = _lost(known[0], known[-1]) if known else 0.0
    if fell <= _DROP:
        return ""
    return (
        f"the chosen replies themselves became less likely, by {fell:.2f} nats a token from first to last "
        f"validation: a lower learning rate, a greater strength, or the objective odds keep them up"
    )


def _lost(before: Mapping[str, float], after: Mapping[str, float]) -> float:
    """Return how many nats a token the chosen replies became less likely by."""
    return (before["chosen_log_prob"] - after["chosen_log_prob"]) / after["chosen_tokens"]


def _apart(checks: Sequence[Mapping[str, float]]) -> str:
    known = _with(checks, "chosen_tokens", "rejected_tokens")
    n_chosen, n_rejected = (known[-1]["chosen_tokens"], known[-1]["rejected_tokens"]) if known else (1.0, 1.0)
    if 1 / _APART < n_rejected / n_chosen < _APART:
        return ""
    return (
        f"rejected replies are {'longer' if n_rejected > n_chosen else 'shorter'} ({n_rejected:.0f} tokens against "
        f"{n_chosen:.0f}): the length alone may be learned; look at the length of answers in the scorecard"
    )


def _saturated(checks: Sequence[Mapping[str, float]]) -> str:
    known = _with(checks, "margin", "ranked", "chosen_log_prob", "chosen_tokens")
    if not known:
        return ""
    last = known[-1]
    before = next((check for check in known[:-1] if check["ranked"] >= last["ranked"]), None)
    if not before or last["margin"] <= _SATURATED or last["margin"] <= 1.5 * before["margin"]:
        return ""
    if _lost(before, last) < -_WON:  # what an objective that learns replies too has given meanwhile
        return ""
    return (
        f"the margin grew from {before['margin']:.1f} to {last['margin']:.1f} and the pairs ranked right did not, "
        f"from {before['ranked']:.3f} to {last['ranked']:.3f}: fewer epochs give as much"
    )
