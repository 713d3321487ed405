"""The seeded generators of `radio.csv`, a transcript, and `talks.jsonl`, conversations: stations calling the desk."""

from __future__ import annotations

import csv
import io
import json
import random
from datetime import datetime, timedelta

from .wordings import KNOWN, clause
from .world import Readings, advice, draw_readings

HESITATIONS = ("uh", "er", "um")
THANKS = ("Thank you, desk.", "Understood.", "Will do. Thank you.", "Copied, thank you.")

Line = tuple[str, str]


def call(rng: random.Random) -> list[Line]:
    """Return one call as lines of a side, `station` or `desk`, and its words."""
    r = draw_readings(rng)
    wind, gusts, sight, glass = (
        clause(rng, field, r, KNOWN) for field in ("direction", "gusts", "visibility", "trend")
    )
    force = clause(rng, "force", r, KNOWN)
    missing = rng.choice(("gusts", "sight", "glass", ""))
    given = {"gusts": gusts, "sight": sight, "glass": glass}
    first = [text for name, text in given.items() if name != missing]
    lines = [("station", f"Desk, {r.station}."), ("desk", f"{r.station}, desk. Go ahead.")]
    lines += [("station", f"{_hesitant(rng, wind)}, {force}."), ("station", f"{_hesitant(rng, ', '.join(first))}.")]
    if missing:
        lines += [("desk", f"And the {missing}?"), ("station", f"{_hesitant(rng, given[missing])}.")]
    lines += [("desk", f"Copied. {_summary(r)} {advice(r)}."), ("station", rng.choice(THANKS)), ("desk", "Desk out.")]
    return lines


def radio_csv(seed: int = 17, n_calls: int = 60) -> str:
    """Return the transcript as CSV: time, speaker and text, the calls hours apart."""
    rng = random.Random(seed)
    buffer = io.StringIO()
    writer = csv.writer(buffer, lineterminator="\n")
    writer.writerow(["time", "speaker", "text"])
    at = datetime(1931, 2, 3, 3)
    for _ in range(n_calls):
        lines = call(rng)
        station = lines[0][1].removeprefix("Desk, ").rstrip(".")
        now = at + timedelta(seconds=rng.randint(0, 900))
        for side, text in lines:
            writer.writerow([now.isoformat(), "desk" if side == "desk" else station, text])
            now += timedelta(seconds=rng.randint(3, 40))
        at += timedelta(hours=3)
    return buffer.getvalue()


def talks_jsonl(seed: int = 19, n_talks: int = 80) -> str:
    """Return conversations as JSON lines, each a day and its messages."""
    rng = random.Random(seed)
    lines = []
    for number in range(n_talks):
        day = datetime(1931, 3, 1) + timedelta(days=number // 4)
        turns: list[dict[str, str]] = []
        for side, text in call(rng):
            role = "assistant" if side == "desk" else "user"
            if turns and turns[-1]["role"] == role:
                turns[-1]["content"] += f" {text}"
            else:
                turns.append({"role": role, "content": text})
        lines.append(json.dumps({"day": day.date().isoformat(), "messages": turns}, ensure_ascii=False))
    return "\n".join(lines) + "\n"


def _hesitant(rng: random.Random, text: str) -> str:
    if rng.random() < 0.4:
        return f"{rng.choice(HESITATIONS).capitalize()}, {text}"
    return text[0].upper() + text[1:]


def _summary(r: Readings) -> str:
    return f"Wind {r.direction} {r.force}, gusts {r.gusts}. Sight {r.visibility}. Glass {r.trend}."
