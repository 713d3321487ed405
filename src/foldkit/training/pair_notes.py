"""What the validations of an objective of pairs show, in words, with their figures; nothing where nothing is clear."""

from __future__ import annotations

from collections.abc import Mapping, Sequence

# A chosen reply that lost so many nats a token; lengths so many times apart; margins that grow past every use.
_DROP, _APART, _SATURATED = 0.1, 1.25, 5.0


def pair_notes(checks: Sequence[Mapping[str, float]]) -> list[str]:
    """Return what is worth knowing of validations in their order, as the run log has them."""
    checks = [check for check in checks if "chosen_log_prob" in check]
    if not checks:
        return []
    first, last = checks[0], checks[-1]
    found = []
    fell = (first["chosen_log_prob"] - last["chosen_log_prob"]) / last["chosen_tokens"]
    if fell > _DROP:
        found.append(
            f"the chosen replies themselves became less likely, by {fell:.2f} nats a token from first to last "
            f"validation: a lower learning rate, a greater strength, or the objective odds keep them up"
        )
    ratio = last["rejected_tokens"] / last["chosen_tokens"]
    if not 1 / _APART < ratio < _APART:
        which = "longer" if ratio > 1 else "shorter"
        found.append(
            f"rejected replies are {which} ({last['rejected_tokens']:.0f} tokens against {last['chosen_tokens']:.0f}): "
            f"the length alone may be learned; look at the length of answers in the scorecard"
        )
    before = next((check for check in checks[:-1] if check["ranked"] >= last["ranked"]), None)
    if before and last["margin"] > _SATURATED and last["margin"] > 1.5 * before["margin"]:
        found.append(
            f"the margin grew from {before['margin']:.1f} to {last['margin']:.1f} and the pairs ranked right did not, "
            f"from {before['ranked']:.3f} to {last['ranked']:.3f}: fewer epochs give as much"
        )
    return found
