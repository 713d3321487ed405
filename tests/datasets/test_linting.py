"""Each thing that can be wrong with a template is found, and nothing in a sound one."""

from __future__ import annotations

import dataclasses
import json
from typing import Any

import pandas as pd
import pytest

from foldkit.datasets import Coder, lint_template
from foldkit.templates import Markup, template_from_mapping
from foldkit.tokens import Encoder, TextSide

from .test_datasets import table_of

ASK: dict[str, Any] = {"role": "user", "text": "{question}"}
SAY: dict[str, Any] = {"role": "assistant", "text": "{answer}", "learned": True}
TURNS = "{% for m in messages %}<turn>{{ m.role }}\n{{ m.content }}<end>{% endfor %}"
ASKS = "{% if add_generation_prompt %}<turn>assistant\n{% endif %}"
OWN = "Be {{ '' }}of good cheer.<end>" + TURNS + ASKS
ENDLESS = "{% for m in messages %}<turn>{{ m.role }} {{ m.content }}{% endfor %}"
DROPS = "{% for m in messages if m.role != 'system' %}<turn>{{ m.role }}\n{{ m.content }}<end>{% endfor %}"
BLANK = (
    "{% for m in messages %}{{ m.role }}: {{ m.content }}<end>{% endfor %}"
    "{% if add_generation_prompt %}assistant: {% endif %}"
)


def linted(
    side: TextSide, *turns: dict[str, Any], markup: str = "", table: pd.DataFrame | None = None
) -> dict[str, tuple[int, ...]]:
    template = template_from_mapping({"name": "t", "turn": list(turns)}, "here")
    chosen = Markup(markup, end_marker="<end>", where="base") if markup else side.markup()
    table = table_of(40)[["question", "answer"]] if table is None else table
    return {finding.name: finding.rows for finding in lint_template(table, Coder(template, Encoder(side, chosen), 99))}


def said(key: str) -> pd.DataFrame:
    """Return two conversations, in the second of which the question has this key too."""
    asked = [{"role": "user", "content": "Fog?"}, {"role": "user", "content": "Gale?", key: True}]
    table = pd.DataFrame({"said": [json.dumps([one, {"role": "assistant", "content": "None."}]) for one in asked]})
    table.index += 1
    return table


def changed(column: str, row: int, text: str) -> pd.DataFrame:
    table = table_of(40)[["question", "answer"]].copy()
    table.loc[row, column] = text
    return table


@pytest.mark.parametrize(
    ("turns", "given", "expected"),
    [
        ([ASK, SAY], {}, {}),
        ([{"role": "user", "text": "{qestion}"}, SAY], {}, {"unfilled slot": ()}),
        ([ASK, SAY], {"table": table_of(40)[["question", "answer", "day"]]}, {"unused columns": ()}),
        ([{"each": "said"}], {"table": said("id")}, {"unused columns": ()}),
        ([{"each": "said"}], {"table": said("learned")}, {}),
        ([{"each": "said", "when": [{"slot": "id", "text": "!"}]}], {"table": said("id")}, {}),
        (
            [ASK, {**SAY, "text": "", "when": [{"slot": "answer", "text": "{answer}"}]}],
            {"table": changed("answer", 3, "")},
            {"empty reply": (3,)},
        ),
        (
            [{"role": "user", "text": "{question}"}, SAY],
            {"markup": BLANK},
            {"prompt ends in a blank": tuple(range(1, 41))},
        ),
        ([ASK, SAY], {"markup": ENDLESS}, {"unusable markup": ()}),
        ([{"role": "system", "text": "Be brief."}, ASK, SAY], {"markup": DROPS}, {"unusable markup": ()}),
        (
            [{"role": "system", "text": "Be brief."}, ASK, SAY],
            {"markup": Markup(DROPS + ASKS).with_system().source},
            {"system text in question": tuple(range(1, 41))},
        ),
        ([ASK, SAY], {"markup": OWN}, {"added text": ()}),
        ([ASK, SAY], {"markup": "{{ way if tools }}" + TURNS + ASKS}, {"markup values": ()}),
        ([ASK, SAY], {"markup": TURNS}, {"another opening": ()}),
        (
            [ASK, SAY, ASK, SAY],
            {"markup": TURNS + ASKS.replace("{% endif", "Well:{% endif")},
            {"another opening": (), "earlier openings": tuple(range(1, 41))},
        ),
        ([ASK, SAY], {"table": changed("question", 5, "say <end> now")}, {"control token in text": (5,)}),
        ([ASK, SAY], {"table": changed("question", 7, "west 7")}, {"swapped": (7,)}),
        ([ASK, SAY, {"role": "user", "text": "Thanks."}], {}, {"unused turns": ()}),
        ([ASK, SAY], {"table": table_of(3)[["question", "answer"]].assign(answer=" ")}, {"no usable row": ()}),
    ],
)
def test_what_is_wrong_is_named(
    side: TextSide, turns: list[dict[str, Any]], given: dict[str, Any], expected: dict[str, tuple[int, ...]]
) -> None:
    """That finding, with its rows, and no other."""
    assert linted(side, *turns, **given) == expected


def test_text_that_a_tokenizer_loses_is_named(side: TextSide, tokenizer_text: str) -> None:
    """A tokenizer that knows no byte level and drops what it does not know."""
    import json

    from foldkit.tokens import TextTokenizer

    values = json.loads(tokenizer_text)
    values["normalizer"] = {"type": "Lowercase"}
    lossy = dataclasses.replace(side, tokenizer=TextTokenizer(json.dumps(values), "here"))
    assert linted(lossy, ASK, SAY, table=changed("answer", 9, "West")) == {"lossy text": (9,)}
