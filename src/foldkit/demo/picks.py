"""The seeded generator of `picks.jsonl`: a keeper's note, the bulletin that was picked, and the one that was not."""

from __future__ import annotations

import json
import random

from .wordings import compose_note, hour_words, number
from .world import DIRECTIONS, Readings, bulletin, draw_readings

FLAWS = ("chatty", "wrong unit", "no advice")


def picks_jsonl(seed: int = 23, n_rows: int = 300) -> str:
    """Return preference rows as JSON lines: prompt, chosen, rejected, and the flaw of the rejected one."""
    rng = random.Random(seed)
    lines = []
    for index in range(n_rows):
        readings = draw_readings(rng)
        flaw = FLAWS[index % len(FLAWS)]
        row = {
            "prompt": f"{readings.station}: {compose_note(rng, readings)}",
            "chosen": bulletin(readings),
            "rejected": _flawed(rng, readings, flaw),
            "flaw": flaw,
        }
        lines.append(json.dumps(row, ensure_ascii=False))
    return "\n".join(lines) + "\n"


def _flawed(rng: random.Random, r: Readings, flaw: str) -> str:
    right = bulletin(r)
    if flaw == "no advice":
        return right[: right.rindex(". ") + 1]
    if flaw == "wrong unit":
        # A mile at sea is 1.85 km; the keepers give miles, and the desk never turns them into anything else.
        return right.replace(f"Sight {r.visibility}.", f"Sight {r.visibility * 1.85:.0f} km.")
    hello = rng.choice(("Good day to all!", "Hello from the desk!", "Thank you, keeper!"))
    hope = rng.choice(("Keep warm out there!", "Do take care on the slip!", "Let us know how the goat is!"))
    return (
        f"{hello} At {r.station}, {hour_words(rng, r.hour)}, the wind was from the {DIRECTIONS[r.direction]} at "
        f"about force {number(rng, r.force)}, with gusts of {number(rng, r.gusts)}, and the sea looked {r.sea}. One "
        f"could see {number(rng, r.visibility)} miles or so, and the glass was {r.trend}. {hope}"
    )
