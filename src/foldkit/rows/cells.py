"""A value of any kind of file as the text of a cell."""

from __future__ import annotations

import functools
import json
import math
from collections.abc import Mapping
from typing import Any


def cell_text(value: Any, *, strip: bool) -> str:
    """Write a cell as text: nothing as blank, and bytes that are no text; lists and objects as JSON."""
    if isinstance(value, bytes):
        value = _decoded(value)
    if isinstance(value, str):
        return value.strip() if strip else value
    if value is None or (isinstance(value, float) and math.isnan(value)):
        return ""
    if isinstance(value, bool):
        text = str(value).lower()
    elif isinstance(value, list | Mapping):
        text = json.dumps(value, ensure_ascii=False, default=functools.partial(cell_text, strip=False))
    else:
        text = str(value)
    return text.strip() if strip else text


def _decoded(value: bytes) -> str | None:
    """Return text that a column of bytes holds, None for what is no text, such as a picture."""
    try:
        return value.decode("utf-8")
    except UnicodeDecodeError:
        return None
