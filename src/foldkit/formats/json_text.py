"""JSON whose texts are made of whole characters: an escape can name half of one, which has no bytes in UTF-8."""

from __future__ import annotations

import json
import re
from typing import Any, NoReturn

_HALF = re.compile(r"\\u[dD][89a-fA-F]")


def json_value(text: str, *, exact: bool = False) -> Any:
    """Return the value of a JSON text; raises ValueError for what is none, and for half a character.

    With `exact` a number is an int where it is a whole one, as 5.0 is, and NaN and Infinity are none, as files may have
    them and JSON has not.
    """
    own: dict[str, Any] = {"parse_float": _number, "parse_constant": _refused} if exact else {}
    value = json.loads(text, **own)
    if escapes_halves(text) and has_half(value):
        raise ValueError("half of a surrogate pair: export the text again")
    return value


def _number(text: str) -> int | float:
    value = float(text)
    return int(value) if value.is_integer() else value


def _refused(name: str) -> NoReturn:
    raise ValueError(f"{name} is no JSON")


def escapes_halves(text: str) -> bool:
    """Say whether a JSON text has escapes of halves of characters, most of which make whole ones."""
    return bool(_HALF.search(text))


def has_half(value: Any) -> bool:
    """Say whether half a character stands alone in a value."""
    try:
        json.dumps(value, ensure_ascii=False).encode("utf-8")
    except UnicodeEncodeError:
        return True
    return False
