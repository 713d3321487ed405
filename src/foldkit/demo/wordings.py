"""How keepers put a reading into words: the wordings that training rows use, and new ones kept for the test part."""

from __future__ import annotations

import random
from collections.abc import Sequence

from .world import DIRECTIONS, HOURS, NUMBERS, STATIONS, Readings

KNOWN: dict[str, tuple[str, ...]] = {
    "hour": ("{hour} reading", "at {hour}", "time {hour}", "{hour} here", "reading taken at {hour}"),
    "direction": (
        "wind {dir}",
        "wind from the {dir}",
        "wind has gone round to the {dir}",
        "blowing from the {dir}",
        "wind has backed {dir}",
        "a {dir} wind",
    ),
    "force": ("force {n}", "I'd call it {n}", "blowing {n}", "about a {n}", "a good {n}", "strength {n}"),
    "gusts": ("gusting {n}", "gusts of {n}", "gusts up to {n}", "{n} in the gusts", "gusting {n} at the rocks"),
    "visibility": (
        "can see {n} miles",
        "visibility {n} miles",
        "can just see {other}, {n} miles",
        "I can make out the boats at {n} miles",
        "clear to {n} miles",
    ),
    "sea calm": ("sea calm", "a calm sea", "sea flat as a plate"),
    "sea slight": ("sea slight", "a slight sea", "only a little lop on the water"),
    "sea moderate": ("sea moderate", "a moderate sea", "a fair lump on the water"),
    "sea rough": ("sea rough", "a rough sea", "white water all round"),
    "sea high": ("sea high", "a high sea", "seas as tall as the boathouse"),
    "trend falling": ("glass falling", "glass is dropping", "barometer going down"),
    "trend steady": ("glass steady", "glass has not moved", "barometer holding"),
    "trend rising": ("glass rising", "glass is climbing", "barometer going up"),
}
NEW: dict[str, tuple[str, ...]] = {
    "hour": ("clock says {hour}", "it is {hour} now", "written at {hour}"),
    "direction": ("the vane points {dir}", "weather comes at us from the {dir}", "{dir} it blows"),
    "force": ("I make it {n}", "the cups say {n}", "call it {n} on the scale"),
    "gusts": ("squalls of {n}", "puffs up to {n}", "touching {n} in the squalls"),
    "visibility": ("eyes reach {n} miles", "the horizon is {n} miles off", "nothing to be seen past {n} miles"),
    "sea calm": ("not a ripple on the sea", "calm water"),
    "sea slight": ("the sea is slight", "small ripples only"),
    "sea moderate": ("the sea is moderate", "middling waves"),
    "sea rough": ("the sea is rough", "breakers on every side"),
    "sea high": ("the sea is high", "great seas running"),
    "trend falling": ("the needle is sinking", "pressure falling"),
    "trend steady": ("the needle stays where it was", "pressure steady"),
    "trend rising": ("the needle is creeping up", "pressure rising"),
}
FILLERS = (
    "kettle is on",
    "seals on the slip again",
    "lamp trimmed and bright",
    "no sign of the supply boat",
    "paint still wet on the rail",
    "the goat got out",
    "bread is late",
    "rope store is dry",
    "geese went over low",
    "nothing else to say",
    "the cat is asleep",
    "a sail beyond the bar",
)
CONTEXTS = (
    "The ferry Marguérite is late today.",
    "The harbour fair is on Saturday.",
    "The fog bell at the mole is under repair.",
    "The relief keeper is Zoë this week.",
    "Two yachts lie at anchor in the roads.",
    "The mail goes with the evening boat.",
    "The crane on the quay is out of use.",
)
OPENERS = ("Desk,", "Evening.", "Good day desk.", "Hello from the light.", "Usual report.")


def number(rng: random.Random, value: int) -> str:
    """Write a number as a word or in figures, as keepers do."""
    return rng.choice((NUMBERS[value], str(value)))


def hour_words(rng: random.Random, hour: str) -> str:
    """Write the hour, mostly in figures."""
    return rng.choice((hour, hour, f"{hour[:2]}:{hour[2:]}", HOURS[hour]))


def direction_words(rng: random.Random, letters: str) -> str:
    """Write a direction, mostly as a word."""
    return rng.choice((DIRECTIONS[letters], DIRECTIONS[letters], DIRECTIONS[letters], letters))


def clause(rng: random.Random, field: str, readings: Readings, wordings: dict[str, tuple[str, ...]]) -> str:
    """Say one reading: `field` is one of hour, direction, force, gusts, sea, visibility, trend."""
    r = readings
    key = {"sea": f"sea {r.sea}", "trend": f"trend {r.trend}"}.get(field, field)
    values: dict[str, str] = {}
    if field == "hour":
        values["hour"] = hour_words(rng, r.hour)
    elif field == "direction":
        values["dir"] = direction_words(rng, r.direction)
    elif field in ("force", "gusts", "visibility"):
        values["n"] = number(rng, getattr(r, field))
        values["other"] = rng.choice([name for name in STATIONS if name != r.station])
    text = rng.choice(wordings[key]).format(**values)
    return text.replace("miles", "mile") if field == "visibility" and r.visibility == 1 else text


def join_clauses(rng: random.Random, clauses: Sequence[str]) -> str:
    """Join clauses into sentences of one to three clauses each."""
    text, start = "", True
    for index, part in enumerate(clauses):
        text += part[0].upper() + part[1:] if start else part
        last = index == len(clauses) - 1
        start = last or rng.random() < 0.4
        text += "." if start else ","
        text += "" if last else " "
    return text


def compose_note(
    rng: random.Random,
    readings: Readings,
    new_fields: frozenset[str] = frozenset(),
    leave_out: frozenset[str] = frozenset(),
) -> str:
    """Write a keeper's note on the readings.

    `new_fields` are said in new wordings, `leave_out` are not said at all.
    """
    said = {}
    for field in ("hour", "direction", "force", "gusts", "sea", "visibility", "trend"):
        if field not in leave_out:
            said[field] = clause(rng, field, readings, NEW if field in new_fields else KNOWN)
    wind = [said[name] for name in ("direction", "force", "gusts") if name in said]
    if rng.random() < 0.2:
        rng.shuffle(wind)
    groups = [wind, *([said[name]] for name in ("sea", "visibility", "trend") if name in said)]
    if rng.random() < 0.5:
        groups.append([rng.choice(FILLERS)])
    rng.shuffle(groups)
    if "hour" in said:
        groups.insert(0 if rng.random() < 0.7 else len(groups), [said["hour"]])
    text = join_clauses(rng, [part for group in groups for part in group])
    return f"{rng.choice(OPENERS)} {text}" if rng.random() < 0.3 else text
