"""What of rows is not used: columns, and keys of the messages of their conversations."""

from __future__ import annotations

from collections.abc import Collection

import pandas as pd

from foldkit.formats import unread_keys
from foldkit.rows.shapes import SOURCE_ROW
from foldkit.templates import Template


def unused(table: pd.DataFrame, template: Template, besides: Collection[str]) -> list[str]:
    """Return the columns that neither the template nor `besides` names, then keys as `key in column`."""
    used = {*template.slots(), *besides, SOURCE_ROW}
    columns = [str(name) for name in table.columns if name not in used]
    conversations = [pattern for pattern in template.turn if pattern.each]
    keys = ((key, one) for one in conversations for cell in table[one.each] for key in unread_keys(cell))
    return [*columns, *dict.fromkeys(f"{key} in {one.each}" for key, one in keys if key not in one.part_slots)]
