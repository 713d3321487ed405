"""The seeded generator of `notes.csv`: about 600 rows with the mess that real files have."""

from __future__ import annotations

import random
from collections.abc import Iterable
from datetime import date, timedelta

from .wordings import CONTEXTS, compose_note, number
from .world import bulletin, draw_readings

COLUMNS = ("id", "station", "season", "date", "note", "context", "wording", "bulletin")
SEASONS = ("winter", "spring", "summer", "autumn")
VARIED_FIELDS = ("hour", "direction", "force", "gusts", "sea", "visibility", "trend")

Row = dict[str, str]


def make_rows(seed: int = 7, n_known: int = 550, n_new: int = 44) -> list[Row]:
    """Return the rows of the sample data, mess included, in order of date.

    Rows whose `wording` is "new" use at least three wordings that no "known" row uses.
    """
    rng = random.Random(seed)
    kinds = ["known"] * n_known + ["new"] * n_new
    rng.shuffle(kinds)
    rows = [_one_row(rng, index, kind) for index, kind in enumerate(kinds)]
    _add_mess(rng, rows)
    return rows


def _one_row(rng: random.Random, index: int, kind: str) -> Row:
    readings = draw_readings(rng)
    # New wordings have days of their own, so that grouping by date never pulls them into training.
    day = date(1931, 1, 3) + timedelta(days=2 * (index // 3) + (kind == "new"))
    new_fields = frozenset(rng.sample(VARIED_FIELDS, rng.randint(3, 5)) if kind == "new" else ())
    context, leave_out = _context(rng, readings.gusts)
    return {
        "id": f"PS-{index + 1:04d}",
        "station": readings.station,
        "season": SEASONS[day.month % 12 // 3],
        "date": day.isoformat(),
        "note": compose_note(rng, readings, new_fields, leave_out),
        "context": context,
        "wording": kind,
        "bulletin": bulletin(readings),
    }


def _context(rng: random.Random, gusts: int) -> tuple[str, frozenset[str]]:
    """Return a context, often blank; one in eight carries the gusts, which the note then leaves out."""
    draw = rng.random()
    if draw < 0.12:
        return f"The buoy had gusts of {number(rng, gusts)}.", frozenset({"gusts"})
    return (rng.choice(CONTEXTS) if draw < 0.35 else ""), frozenset()


def _add_mess(rng: random.Random, rows: list[Row]) -> None:
    """Blank cells, stray spaces, exact and near duplicates, a number where text belongs."""
    spots = rng.sample([i for i, row in enumerate(rows) if row["wording"] == "known"], 24)
    for spot in spots[:3]:
        rows[spot]["note"] = ""
    for spot in spots[3:5]:
        rows[spot]["bulletin"] = ""
    rows[spots[5]]["note"] = "1013"
    for spot in spots[6:14]:
        rows[spot]["note"] = f"  {rows[spot]['note']} "
    for spot in spots[14:16]:
        rows[spot]["station"] = f"{rows[spot]['station']} "
    for spot in spots[16:20]:
        rows.append({**rows[spot], "id": f"PS-{len(rows) + 1:04d}"})
    for spot in spots[20:24]:
        note = rows[spot]["note"].rstrip(".") + ", over."
        rows.append({**rows[spot], "id": f"PS-{len(rows) + 1:04d}", "note": note})


def csv_text(rows: Iterable[Row]) -> str:
    """Return the rows as CSV with a header."""
    import csv
    import io

    buffer = io.StringIO()
    writer = csv.DictWriter(buffer, fieldnames=COLUMNS, lineterminator="\n")
    writer.writeheader()
    writer.writerows(rows)
    return buffer.getvalue()
