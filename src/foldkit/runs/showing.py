"""Settings and times as a table, a legend or a page shows them."""

from __future__ import annotations

from typing import Any


def shown_setting(value: Any) -> str:
    """Write a setting as a table or a legend shows it."""
    if isinstance(value, float):
        return f"{value:g}"
    return "–" if value in (None, "", [], ()) else str(value)


def clock(seconds: float) -> str:
    """Write a length of time: `42 s`, `3 min 07 s`, `2 h 05 min`."""
    whole = round(seconds)
    if whole < 60:
        return f"{whole} s"
    if whole < 3600:
        return f"{whole // 60} min {whole % 60:02} s"
    return f"{whole // 3600} h {whole % 3600 // 60:02} min"
