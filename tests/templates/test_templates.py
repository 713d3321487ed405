"""Rows to turns, and turns to segments."""

from __future__ import annotations

import json
from pathlib import Path
from typing import Any

import pytest
from hypothesis import given
from hypothesis import strategies as st

from foldkit.formats import FoldKitError, InputError, UsageError
from foldkit.templates import HEADINGS, Markup, Turn, read_template, template_from_mapping
from foldkit.templates.rendering import render

BULLETIN: dict[str, Any] = {
    "name": "bulletin",
    "turn": [
        {"role": "system", "text": "For {station}.", "needs": "station"},
        {"role": "user", "text": "{note}", "when": [{"slot": "context", "text": " Also: {context}"}]},
        {"role": "assistant", "text": "{bulletin}", "learned": True},
    ],
}
ROW = {"station": "Low Pell", "note": "wind {x} west", "context": "", "bulletin": "W"}


def test_turns_and_parts_stand_only_where_their_slot_is_filled() -> None:
    """A blank context adds nothing, a blank station drops its turn; braces in a row's text stay as they are."""
    template = template_from_mapping(BULLETIN, "here")
    assert [turn.text for turn in template.turns(ROW)] == ["For Low Pell.", "wind {x} west", "W"]
    assert template.turns({**ROW, "context": "fog"})[1].text == "wind {x} west Also: fog"
    assert [turn.role for turn in template.turns({**ROW, "station": " "})] == ["user", "assistant"]
    assert template.target(ROW) == "W"
    assert template.prompt_turns(ROW) == template.turns(ROW)[:-1]
    assert template.prompt_slots() == ("station", "note", "context")
    assert template.needed_slots({**ROW, "station": ""}) == ("note", "bulletin")
    assert template_from_mapping(template.as_mapping(), "again") == template


def test_defaults_and_parts_before_the_text() -> None:
    """A blank slot with a default needs no text; a part before the text wraps reasoning where the row has it."""
    values = {
        "name": "why",
        "default": {"place": "the harbour"},
        "turn": [
            {"role": "user", "text": "Wind at {place}?"},
            {
                "role": "assistant",
                "text": "{answer}",
                "learned": True,
                "before": [{"slot": "why", "text": "<why>{why}</why>\n"}],
            },
        ],
    }
    template = template_from_mapping(values, "here")
    row = {"place": " ", "why": "glass falls", "answer": "W"}
    assert [turn.text for turn in template.turns(row)] == ["Wind at the harbour?", "<why>glass falls</why>\nW"]
    assert [turn.text for turn in template.turns({"place": "Pell", "why": "", "answer": "W"})] == ["Wind at Pell?", "W"]
    assert (template.needed_slots(row), template.slots()) == (("answer",), ("place", "why", "answer"))
    assert template_from_mapping(template.as_mapping(), "again") == template
    with pytest.raises(FoldKitError, match="did you mean 'place'"):
        template_from_mapping({**values, "default": {"plaice": "x"}}, "here")


@pytest.mark.parametrize(
    ("turn", "said"),
    [
        ({"role": "asistant", "text": "x", "learned": True}, "did you mean 'assistant'"),
        ({"role": "assistant", "text": "{a", "learned": True}, "expected text with {slots}"),
        ({"role": "assistant", "text": "{a!r}", "learned": True}, "plain column name"),
        ({"role": "assistant", "text": "{a.b}", "learned": True}, "plain column name"),
        ({"role": "user", "text": "{a}", "learned": True}, "learned assistant turns"),
        ({"role": "assistant", "text": "{a}"}, "at least one learned turn"),
        ({"role": "assistant", "text": "{a}", "rejected": "{b}"}, "a worse reply of a learned turn"),
        ({"role": "assistant", "text": "{a}", "learned": True, "rejected": "{b"}, "expected text with {slots}"),
        ({"role": "assistant", "text": "{a}", "learnt": True}, "did you mean 'learned'"),
    ],
)
def test_bad_templates_are_refused_by_turn(turn: dict[str, Any], said: str) -> None:
    """A wrong role, a bad slot, nothing learned, an unknown key."""
    with pytest.raises(FoldKitError, match=said):
        template_from_mapping({"name": "x", "turn": [turn]}, "here")


def test_built_in_templates_are_found_by_name(tmp_path: Path) -> None:
    """Each parses; an unknown name gets the near one."""
    assert read_template("question", tmp_path).slots() == ("question", "answer")
    preference = read_template("preference", tmp_path)
    assert preference.rejected_slots() == ("rejected",)
    assert template_from_mapping(preference.as_mapping(), "again") == preference
    assert preference.rejected({"prompt": "a", "chosen": "b", "rejected": "c"}) == "c"
    row = {"instruction": "Add.", "input": "", "output": "3"}
    assert read_template("instruction", tmp_path).turns(row)[0].text == "Add."
    with pytest.raises(FoldKitError, match="did you mean 'question'"):
        read_template("questions", tmp_path)


def test_a_conversation_of_any_length_is_its_own_turns() -> None:
    """Every reply learned; the prompt ends before the last one; plain text is one question."""
    template = template_from_mapping({"name": "talk", "turn": [{"each": "messages"}]}, "here")
    talk = [("system", "s"), ("human", "a"), ("assistant", "b"), ("user", "c"), ("assistant", "d"), ("user", "e")]
    row = {"messages": json.dumps([{"role": role, "content": text} for role, text in talk])}
    turns = template.turns(row)
    assert [(turn.role, turn.text) for turn in turns] == [("user" if r == "human" else r, t) for r, t in talk]
    assert [turn.text for turn in turns if turn.learned] == ["b", "d"]
    assert [turn.text for turn in template.prompt_turns(row)] == ["s", "a", "b", "c"]
    assert (template.target(row), template.slots(), template.prompt_slots()) == ("d", ("messages",), ("messages",))
    assert template.prompt_turns({"messages": "wind?"}) == (Turn("user", "wind?"),)
    assert template_from_mapping(template.as_mapping(), "again") == template
    in_turn = [Turn("user", "a"), Turn("assistant", "b", learned=True), Turn("user", "c")]
    assert list(template.turns({"messages": '["a", "b", "c"]'})) == in_turn
    for twice in ('[["a", "b"], ["a", "b"]]', '[{"human": "a", "assistant": "b"}, {"user": "a", "bot": "b"}]'):
        assert list(template.turns({"messages": twice})) == 2 * in_turn[:2]
    after = {"name": "x", "turn": [{"each": "said", "learned": False}, {"each": "messages", "learned": True}]}
    assert [turn.learned for turn in template_from_mapping(after, "here").turns({"said": twice, **row})] == (
        [False] * 4 + [turn.learned for turn in turns]
    )
    with pytest.raises(FoldKitError, match="at least one learned turn that always stands"):
        template_from_mapping({"name": "x", "turn": after["turn"][:1]}, "here")
    parts = [{"type": "text", "text": "wind "}, "west"]
    for content in (parts, "wind west"):
        (turn,) = template.turns({"messages": json.dumps([{"role": "user", "content": content}])})
        assert turn == Turn("user", "wind west")
    for wrong, said in (
        ({"role": "cat", "content": "x"}, "the role 'cat', which is none of system, user, assistant"),
        ({"role": "user", "content": 3}, "of role user, has no text"),
        ({"role": "assistant", "content": None, "tool": "mast"}, "of role assistant, has no text"),
        ({"role": "user", "content": [*parts, {"type": "image", "text": "x"}]}, "has no text as its content"),
        ({"role": "assistant", "content": "x", "tool_calls": [{"mast": 1}]}, "calls a tool, and tool_calls is not"),
        ({"role": "assistant", "content": "", "function_call": {"mast": 1}}, "calls a tool, and function_call is not"),
        ("x", "no object with role and content"),
        (["x", "y", "z"], "no object with role and content"),
        ({"user": "x", "day": "y"}, "has no role"),
        ({"content": "x"}, "has no role"),
    ):
        with pytest.raises(ValueError, match=f"message 2.*{said}"):
            template.turns({"messages": json.dumps([{"role": "user", "content": "x"}, wrong])})
    none = [{"role": "assistant", "content": "x", "tool_calls": called} for called in (None, [])]
    assert [turn.text for turn in template.turns({"messages": json.dumps(none)})] == ["x", "x"]
    compared = read_template("compared", Path())
    assert compared.prompt_slots() == ("messages",)
    asked = {"messages": row["messages"].replace('"d"', '"d", "learned": false'), "chosen": "f", "rejected": "g"}
    assert ([turn.text for turn in compared.prompt_turns(asked)], compared.target(asked)) == (["s", *"abcde"], "f")
    why = {"slot": "why", "text": "<{why}{place}>"}
    parts = template_from_mapping({"name": "talk", "turn": [{"each": "messages", "before": [why]}]}, "here")
    assert (parts.slots(), parts.turn[0].part_slots) == (("messages",), ("why", "why", "place"))
    led = [{"role": "assistant", "content": "x", "why": "w"}, {"role": "assistant", "content": "y", "why": ["é", 1]}]
    led += [{"role": "assistant", "content": "z", "why": None, "place": "p"}]
    assert [turn.text for turn in parts.turns({"messages": json.dumps(led)})] == ["<w>x", '<["é", 1]>y', "z"]
    roles = {"keeper": "user", "desk": "assistant"}
    named = template_from_mapping({"name": "talk", "turn": [{"each": "messages", "roles": roles}]}, "here")
    other = row["messages"].replace('"human"', '"keeper"').replace('"assistant"', '"desk"')
    assert named.turns({"messages": other}) == turns
    assert template_from_mapping(named.as_mapping(), "again") == named
    with pytest.raises(FoldKitError, match=r"roles\.keeper: expected 'system' or 'user' or 'assistant'"):
        template_from_mapping({"name": "x", "turn": [{"each": "m", "roles": {"keeper": "users"}}]}, "here")
    with pytest.raises(FoldKitError, match="roles: expected a turn with each"):
        template_from_mapping({"name": "x", "turn": [{"role": "user", "text": "a", "roles": roles}]}, "here")
    piece = read_template("pieces", Path())
    assert [turn.open for more in ("yes", "") for turn in piece.turns({"text": "a", "goes_on": more})] == [True, False]
    assert [piece.goes_on({"text": "a", "goes_on": more}) for more in ("yes", " ")] == [True, False]
    assert template_from_mapping(piece.as_mapping(), "again") == piece
    first = [{"role": "assistant", "text": "a", "learned": True, "open": "b"}, {"role": "assistant", "text": "c"}]
    with pytest.raises(FoldKitError, match="open: expected one, in the last learned turn"):
        template_from_mapping({"name": "x", "turn": [first[0], {**first[1], "learned": True}]}, "here")
    with pytest.raises(FoldKitError, match="a slot is a plain column name"):
        template_from_mapping({"name": "x", "turn": [{"each": "m", "when": [{"slot": "y", "text": "{y!r}"}]}]}, "here")
    with pytest.raises(FoldKitError, match="a turn without role and text"):
        template_from_mapping({"name": "x", "turn": [{"each": "m", "role": "user"}]}, "here")


TURNS = (Turn("user", "a"), Turn("assistant", "b", learned=True))


@given(texts=st.lists(st.text(), min_size=2, max_size=2))
def test_markup_and_text_stay_apart_for_any_text(texts: list[str]) -> None:
    """The texts are the turns' own, and together with the pieces they are what plain rendering gives."""
    turns = (Turn("user", texts[0]), Turn("assistant", texts[1], learned=True))
    written = Markup(HEADINGS, end_marker="<end>").written(turns)
    assert list(written.texts) == texts
    assert written.pieces == ("== user ==\n", "\n\n== assistant ==\n", "<end>\n\n")
    assert str(written) == f"== user ==\n{texts[0]}\n\n== assistant ==\n{texts[1]}<end>\n\n"


def test_a_prompt_is_the_beginning_of_its_example() -> None:
    """The opening of the reply included."""
    markup = Markup(HEADINGS, end_marker="<end>")
    assert str(markup.written(TURNS)).startswith(str(markup.written(TURNS[:1], asking=True)) + "b")


def each(written: str) -> Markup:
    """Return the markup that writes this of each message."""
    return Markup(f"{{% for m in messages %}}{written}{{% endfor %}}")


BLANK = (Turn("user", " a "), Turn("assistant", "b\n", learned=True))
ODD = (Turn("user", "axb"), Turn("assistant", "", learned=True))


@pytest.mark.parametrize(
    ("written", "expected"),
    [
        ("[{{ m.content }}]", "[ a ][b\n]"),
        ("[{{ m.content | trim }}]", "[a][b]"),
        ("[{{ m.content.rstrip() + '!' }}]", "[ a!][b!]"),
        ("[{{ '!' + m['content'].lstrip().rstrip() }}]", "[!a][!b]"),
        ("{% if m.content is string %}[{{ m.content }}]{% endif %}", "[ a ][b\n]"),
        ("{% if m.tools %}{{ m.tools | tojson }}{% endif %}[{{ m.content }}]", "[ a ][b\n]"),
        ("{% if m.role in ['user', 'assistant'] and loop.index0 % 2 < 2 %}[{{ m.content }}]{% endif %}", "[ a ][b\n]"),
    ],
)
def test_markup_that_takes_blanks_off_is_followed(written: str, expected: str) -> None:
    """Whatever the texts are, so that no row is rendered to find out."""
    markup = each(written)
    assert str(markup.written(BLANK)) == expected
    assert str(markup.written(ODD)) == render(markup.source, ["user", "assistant"], ["axb", ""], {})
    assert not markup.shape(["user", "assistant"]).looked


@pytest.mark.parametrize(
    "written",
    [
        "[{{ m.content if 'x' not in m.content else 'X' }}]",
        "[{{ m.content.split('x')[0] }}]",
        "[{{ m.content | replace('x', 'X') }}]",
        "{% set c = m.content ~ ']' %}[{{ c if 'x' not in c else 'X' }}",
        "{% set c %}[{{ m.content }}]{% endset %}{{ c if 'x' not in c else 'X' }}",
        "[{{ ''.join([m.content]).replace('x', 'X') }}]",
        "[{{ 'X' if 'x' in ''.join([m.content]) else m.content }}]",
        "{% if m.content %}[{{ m.content }}]{% endif %}",
        "[{{ ((m.content | tojson)[1:-1]).replace('\\\\n', '\\n').replace('x', 'X') }}]",
        "[{{ 'X' if m.content in 'axb' else m.content }}]",
        "[{{ 'X' if m.content is in 'axb' else m.content }}]",
        "[{{ 'X' if 'axb'.startswith(m.content) else m.content }}]",
        "[{{ (m.content * 1).replace('x', 'X') }}]",
        "[{{ ('%s' % (m.content,)).replace('x', 'X') }}]",
    ],
)
def test_markup_that_looks_at_a_text_is_rendered_with_it(written: str) -> None:
    """A text that it writes as it writes others is taken; one that it writes otherwise is refused."""
    markup = each(written)
    assert str(markup.written(BLANK)) == "[ a ][b\n]"
    with pytest.raises(InputError, match="keeps each turn's text"):
        markup.written(ODD)


# As markups of models that think aloud: of earlier turns their thoughts are left out, the last one is written anew.
THINKS = (
    "{% for m in messages %}<turn>{{ m.role }}{{ '\\n' }}{% set c = m.content %}{% if '</think>' in c %}"
    "{% set t = c.split('</think>')[0].split('<think>')[-1] %}{% set c = c.split('</think>')[-1].lstrip() %}{% endif %}"
    "{% if m.role == 'assistant' and loop.last %}<think>{{ t or '' }}</think>{% endif %}{{ c }}<end>{% endfor %}"
    "{% if add_generation_prompt %}<turn>assistant{{ '\\n' }}{% if thinks is defined and not thinks %}<think></think>"
    "{% endif %}{% endif %}"
)


def test_thoughts_that_a_markup_leaves_out_later_are_learned_and_left_out_later() -> None:
    """A prompt is the markup's own rendering, whatever the texts; the last reply stands as the row has it."""
    markup = Markup(THINKS)
    roles, thought = ["user", "assistant", "user"], "<think> SW? </think> SW 5"
    asked = markup.written(
        [Turn(role, text) for role, text in zip(roles, ["a", thought, "b"], strict=True)], asking=True
    )
    assert asked.texts == ["a", "SW 5", "b"]
    assert str(asked) == render(THINKS, roles, ["a", thought, "b"], {"add_generation_prompt": True})
    ending = markup.ending(roles[:2])
    assert ending.pieces == ("<end><turn>assistant\n<think></think>", "<end>")
    assert markup.reply(ending, roles[:2], ["a", thought]) == thought
    blank = each("[{{ m.content.replace('/think', '').rstrip() }}]")
    assert str(blank.written([Turn("user", " a \n"), Turn("user", "b\n")])) == "[ a][b]"
    assert [blank.reply(blank.ending(["user"]), ["user"], [text]) for text in ("a \n", "a")] == ["a", "a"]
    with pytest.raises(InputError, match="keeps each turn's text"):  # no end of it is left, which would be to drop it
        markup.written([Turn("assistant", "<think> SW? </think>"), Turn("user", "b")])
    shouts = each("[{{ m.content | upper }}]")
    with pytest.raises(InputError, match="keeps each turn's text"):
        shouts.reply(shouts.ending(["user"]), ["user"], ["ab"])


@given(texts=st.lists(st.text("ax "), min_size=3, max_size=3))
def test_what_is_left_out_is_a_beginning(texts: list[str]) -> None:
    """Whatever is written is what a rendering gives, and of each text its end; else it is refused."""
    markup, turns = each("[{{ m.content.split('x')[-1] }}]"), [Turn("user", text) for text in texts]
    kept = [text.split("x")[-1] for text in texts]
    if any(text.strip() and not end.strip() for text, end in zip(texts, kept, strict=True)):
        with pytest.raises(InputError, match="keeps each turn's text"):
            markup.written(turns)
    else:
        assert list(markup.written(turns).texts) == kept


def test_names_that_a_markup_reads_are_given_values() -> None:
    """Those alone; a day where it needs one, always the same; what some have around replies writes nothing."""
    says = "{% set c = 1 %}{{ c }}{% for m in messages %}{% generation %}{{ m.content }}{% endgeneration %}{% endfor %}"
    day = says + "{{ strftime_now('%d %b %Y') }}"
    for source, values, expected in (
        (says + "{{ where }} {{ n or 0 }}", {"where": "Pell", "n": 3}, "1abPell 3"),
        (day, {}, "1ab01 Jan 2026"),
        (day, {"strftime_now": "2026-11-29"}, "1ab29 Nov 2026"),
        (says + "{{ strftime_now('%Y') if strftime_now is defined else 'no day' }}", {}, "1abno day"),
    ):
        markup = Markup(source).given(values)
        assert str(markup.written(TURNS)) == expected
        assert Markup.from_mapping(json.loads(json.dumps(markup.as_mapping())), "markup") == markup
    assert Markup(says + "{{ where }}{{ n }}").given({"n": 1}).open_names == ["where"]
    for source, values, said in (
        (day, {"messages": "x"}, r"\[base.markup_values\]: name: .* 'messages'; known: strftime_now"),
        (says + "{{ where }}", {"were": "x"}, "did you mean 'where'"),
        (HEADINGS, {"n": 1}, "known: none"),
        (day, {"strftime_now": "29 Nov"}, "strftime_now: expected a day such as 2026-01-01, found '29 Nov'"),
    ):
        with pytest.raises(UsageError, match=said):
            Markup(source).given(values)


@pytest.mark.parametrize(
    "source",
    [
        "{{ messages[0].content }}",  # drops a turn
        "{% for m in messages %}{{ m.content }}{{ m.content }}{% endfor %}",  # says it twice
        "{% for m in messages %}{{ m.content | upper }}{% endfor %}",  # changes it
        "{% for m in messages %}",  # is no template
        "{{ messages.__class__.__mro__ }}",  # reaches out of the sandbox
        "{{ raise_exception('system turns are not served') }}",  # refuses
        "{{ 1 / 0 }}",
        "{% macro of() %}{% continue %}{% endmacro %}",  # is no function
        "{% macro of() %}{{ of() }}{% endmacro %}{{ of() }}",  # has no end
    ],
)
def test_unusable_markup_is_refused_with_a_way_on(source: str) -> None:
    """Never followed half way."""
    with pytest.raises(InputError, match="markup = 'headings'"):
        Markup(source, where="base").written((Turn("user", "abc"), Turn("assistant", "d", learned=True)))
