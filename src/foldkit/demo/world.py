"""The sample world: the weather desk of Pellam Sound, its stations, readings, house style and unstated rule."""

from __future__ import annotations

import random
import re
from dataclasses import dataclass

STATIONS = (
    "Gannet Stack",
    "Low Pell",
    "High Pell",
    "Orra Head",
    "Tolly Rock",
    "Marrow Ness",
    "Ebb Holm",
    "Lantern Isle",
    "Skarn Point",
    "Whin Island",
    "Saltby Mole",
    "Sølen Bank",
)
DIRECTIONS = {
    "N": "north",
    "NE": "northeast",
    "E": "east",
    "SE": "southeast",
    "S": "south",
    "SW": "southwest",
    "W": "west",
    "NW": "northwest",
}
# The keepers report every three hours, and nobody is awake at midnight.
HOURS = {
    "0300": "three in the morning",
    "0600": "six in the morning",
    "0900": "nine in the morning",
    "1200": "noon",
    "1500": "three in the afternoon",
    "1800": "six in the evening",
    "2100": "nine at night",
}
SEAS = ("calm", "slight", "moderate", "rough", "high")
TRENDS = ("falling", "steady", "rising")
NUMBERS = ("zero", "one", "two", "three", "four", "five", "six", "seven", "eight", "nine", "ten", "eleven", "twelve")
FIELDS = ("station", "hour", "direction", "force", "gusts", "sea", "visibility", "trend", "advice")

BULLETIN_PATTERN = (
    r"(?P<station>[^,.\n]+), (?P<hour>\d{4})\. Wind (?P<direction>[NESW]{1,2}) (?P<force>\d+), gusts (?P<gusts>\d+)\. "
    r"Sea (?P<sea>\w+)\. Sight (?P<visibility>\d+)\. Glass (?P<trend>\w+)\. (?P<advice>[A-Z][^.\n]+)\."
)


@dataclass(frozen=True)
class Readings:
    """What a keeper saw at one hour: gusts and force on the wind scale, visibility in miles."""

    station: str
    hour: str
    direction: str
    force: int
    gusts: int
    sea: str
    visibility: int
    trend: str


def draw_readings(rng: random.Random) -> Readings:
    """Draw one set of readings; the sea goes with the wind, the rest is free."""
    force = rng.randint(2, 8)
    sea = SEAS[min(4, max(0, (force - 1) // 2 + rng.choice((0, 0, 0, 1, -1))))]
    return Readings(
        station=rng.choice(STATIONS),
        hour=rng.choice(tuple(HOURS)),
        direction=rng.choice(tuple(DIRECTIONS)),
        force=force,
        gusts=force + rng.randint(1, 3),
        sea=sea,
        visibility=rng.choice((1, 1, 2, 2, 3, 4, 5, 6, 7, 8, 9)),
        trend=rng.choice(TRENDS),
    )


def advice(readings: Readings) -> str:
    """Return the desk's advice. The rule is stated here and nowhere in the data."""
    if readings.gusts >= 9:
        return "All boats stay in"
    if readings.visibility <= 2:
        return "Sound the horn"
    if readings.trend == "falling" and readings.gusts >= 6:
        return "Small boats in by dark"
    return "No warning"


def bulletin(readings: Readings) -> str:
    """Write the bulletin in the desk's house style."""
    r = readings
    return (
        f"{r.station}, {r.hour}. Wind {r.direction} {r.force}, gusts {r.gusts}. Sea {r.sea}. "
        f"Sight {r.visibility}. Glass {r.trend}. {advice(r)}."
    )


def parse_bulletin(text: str) -> dict[str, str] | None:
    """Return the nine fields of a bulletin, or None when the text is not a well-formed one."""
    match = re.fullmatch(BULLETIN_PATTERN, text.strip())
    return match.groupdict() if match else None
