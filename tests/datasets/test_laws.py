"""Laws of rows through templates into examples: for any text, any template, with and without chat markup."""

from __future__ import annotations

import dataclasses
import json
from typing import Any

import pandas as pd
from hypothesis import example, given, settings
from hypothesis import strategies as st

from foldkit.datasets import Coder, code_rows
from foldkit.templates import Template, template_from_mapping
from foldkit.tokens import Encoder, TextSide, TextTokenizer

SLOTS = ("a", "b", "c")
PARTS = st.lists(st.builds(lambda slot: {"slot": slot, "text": f"<{{{slot}}}>"}, st.sampled_from(SLOTS)), max_size=2)


@st.composite
def templates(draw: st.DrawFn) -> Template:
    """Draw templates of one to three exchanges with optional parts, optional turns, and defaults."""
    turns: list[dict[str, Any]] = []
    if draw(st.booleans()):
        turns.append({"role": "system", "text": "Be {a}.", "needs": draw(st.sampled_from(("", "a")))})
    for _ in range(draw(st.integers(1, 3))):
        slot = draw(st.sampled_from(SLOTS))
        turns.append({"role": "user", "text": f"Say {{{slot}}}", "when": draw(PARTS)})
        slot = draw(st.sampled_from(SLOTS))
        turns.append(
            {"role": "assistant", "text": f"{{{slot}}}", "learned": draw(st.booleans()), "before": draw(PARTS)}
        )
    turns[-1]["learned"] = True
    default = {"b": "none"} if draw(st.booleans()) else {}
    mapping = {"name": "drawn", "turn": turns, "default": default}
    used = template_from_mapping({**mapping, "default": {}}, "drawn").slots()
    return template_from_mapping({**mapping, "default": {k: v for k, v in default.items() if k in used}}, "drawn")


ROWS = st.lists(st.fixed_dictionaries({slot: st.text(max_size=20) for slot in SLOTS}), min_size=1, max_size=4)
SCRIPTS = [{"a": "שלום עולם", "b": "e\u0301 A\u030a <end> 👩‍🚀", "c": "مرحبا\u200f\r\n\t== user =="}]
PLAIN = template_from_mapping(
    {
        "name": "plain",
        "turn": [
            {"role": "user", "text": "{a}{b}"},
            {"role": "assistant", "text": "{c}{b}", "learned": True},
        ],
    },
    "plain",
)


@settings(max_examples=200, deadline=None)
@given(template=templates(), rows=ROWS, own=st.booleans())
@example(template=PLAIN, rows=SCRIPTS, own=True)
@example(template=PLAIN, rows=SCRIPTS, own=False)
def test_what_is_learned_is_the_replies_and_their_ends(
    side: TextSide, chat_side: TextSide, template: Template, rows: list[dict[str, str]], own: bool
) -> None:
    """Any text in, the same text out of the learned spans; nothing learned outside them; no row without an account."""
    chosen = chat_side if own else side
    encoder = Encoder(chosen, chosen.markup("own" if own else "headings"))
    table = pd.DataFrame(rows, index=pd.RangeIndex(1, len(rows) + 1))
    coded = code_rows(table, Coder(template, encoder, 10_000))
    assert sorted([*coded.examples.rows.tolist(), *(row.row for row in coded.set_aside)]) == list(table.index)
    for one in coded.examples:
        turns = template.turns(rows[one.row - 1])
        learned = [encoder.tokenizer.decode(one.ids[start : end - 1]) for start, end in one.spans]
        assert learned == [turn.text for turn in turns if turn.learned]
        assert all(one.ids[end - 1] in encoder.end_ids for _, end in one.spans)
        assert one.spans[-1][1] == len(one.ids)
        last = max(index for index, turn in enumerate(turns) if turn.learned)
        assert one.ids[: one.spans[-1][0]] == encoder.prompt(turns[:last])
        control = [token for token in one.ids if token in encoder.tokenizer.control_tokens.values()]
        assert len(control) == (2 * (last + 1) if own else sum(turn.role == "assistant" for turn in turns[: last + 1]))
    for row in coded.set_aside:
        blank = [slot for slot in template.needed_slots(rows[row.row - 1]) if not rows[row.row - 1][slot].strip()]
        assert row.reason == f"blank: {', '.join(blank)}"


@settings(max_examples=60, deadline=None)
@given(rows=ROWS)
def test_what_another_tokenizer_loses_is_counted(
    side: TextSide, tokenizer_text: str, rows: list[dict[str, str]]
) -> None:
    """Those rows, and no others, whose reply does not come back from a tokenizer that folds the case of letters."""
    values = json.loads(tokenizer_text)
    values["normalizer"] = {"type": "Lowercase"}
    folding = dataclasses.replace(side, tokenizer=TextTokenizer(json.dumps(values), "here"))
    table = pd.DataFrame(rows, index=pd.RangeIndex(1, len(rows) + 1))
    encoder = Encoder(folding, folding.markup())
    coded = code_rows(table, Coder(PLAIN, encoder, 10_000))
    decode = encoder.tokenizer.decode
    lost = {e.row for e in coded.examples if decode(e.ids[slice(*e.spans[0])][:-1]) != PLAIN.target(rows[e.row - 1])}
    assert coded.odd["lossy text"] == sorted(lost)
