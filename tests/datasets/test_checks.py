"""Each check finds what is planted for it, in those rows and no others, and nothing in clean rows."""

from __future__ import annotations

import random
from pathlib import Path

import pandas as pd
import pytest

from foldkit.datasets import (
    CHECKS,
    Choice,
    Coder,
    Pair,
    check_choices,
    check_pairs,
    code_rows,
    find_leaks,
    too_few,
    unseen_labels,
)
from foldkit.rows.near import near_texts
from foldkit.templates import read_template
from foldkit.tokens import Encoder, TextSide


def clean(n: int = 60) -> dict[int, Pair]:
    rng = random.Random(3)
    words = [f"{a}{b}" for a in "bdfgklmnprstv" for b in ("ale", "ino", "ora", "est", "umi")]
    return {
        row: Pair(f"Note {' '.join(rng.choices(words, k=14))}.", f"Sea {' '.join(rng.choices(words, k=8))}.")
        for row in range(1, n + 1)
    }


PLANTED = {
    "not text": Pair("1013", "Sea calm and the glass steady here."),
    "duplicates": clean()[5],
    "contradicting": Pair(clean()[7].prompt.upper(), "Quite another reply than that one."),
    "copied": Pair("Say: the wind is west and the sea calm.", "The wind is  west and the sea calm."),
    "prompt repeated": Pair("Note: the glass falls fast today", "note: the glass  falls fast today, and so do I."),
    "very short": Pair("Note of a keeper on a quiet day.", "no"),
    "swapped": Pair("Sea of the keeper on a quiet day.", "Note the other way round entirely."),
    "odd characters": Pair("Note of a b\ufffde on a quiet day.", "Sea quiet, says the keeper there."),
    "messages as text": Pair('[{"role": "user", "content": "Note?"}]', "Sea quiet, says the same keeper."),
    "turns in a text": Pair("", "User: Note of a quiet day?\nAssistant: Sea quiet, says he."),
    "leftover markup": Pair("Note <b>bold</b> of a quiet day.", "Sea quiet, says the keeper here."),
    "e-mail address": Pair("Note: write to keeper@pell.example soon.", "Sea quiet, says the old keeper."),
    "phone number": Pair("Note: call +99 555 0100 22 tonight.", "Sea quiet, says a young keeper."),
    "near duplicates": Pair(clean()[9].prompt.replace("Note", "Notes"), clean()[9].reply),
}


def test_clean_rows_give_no_finding() -> None:
    """No false alarm: dates, hours and numbers are no phone numbers, thoughts no markup; texts contradict nothing."""
    pairs = clean() | {99: Pair("Note of 1931-01-03, 0600 and 06:00: 12 boats, 3.5 miles.", "Sea as it was at 1800.")}
    pairs[98] = Pair("Note: the glass falls all the evening.", "<think>It will blow.</think> Stay in, all of you.")
    assert check_pairs(pairs, 0.85) == []
    assert check_pairs({row: Pair("", pair.reply) for row, pair in clean().items()}, 0.85) == []


@pytest.mark.parametrize("name", PLANTED)
def test_a_planted_row_is_found_by_its_check_alone(name: str) -> None:
    """With its row's number, a sentence and an example."""
    findings = {finding.name: finding for finding in check_pairs(clean() | {61: PLANTED[name]}, 0.85)}
    assert set(findings) == {name}
    assert 61 in findings[name].rows
    assert len(findings[name].rows) <= 2
    assert findings[name].says
    assert findings[name].example


def test_labels_out_of_balance_and_few_rows_are_said() -> None:
    """Ninety to ten; and the control, half and half."""
    labels = {row: Pair(p.prompt, "calm" if row % 10 else "rough") for row, p in clean(100).items()}
    assert [finding.name for finding in check_pairs(labels, 0.85)] == ["unbalanced"]
    long = {row: Pair(p.prompt, p.reply * 200) for row, p in labels.items()}
    assert len(check_pairs(long, 0.85)[0].says) < 250
    even = {row: Pair(p.prompt, "calm" if row % 2 else "rough") for row, p in clean(100).items()}
    assert check_pairs(even, 0.85) == []
    for n, said in ((20, "little is learned"), (120, "usually need 200")):
        finding = too_few(n)
        assert finding is not None
        assert said in finding.says
    assert too_few(200) is None


def test_labels_that_train_has_not_are_told() -> None:
    """A row of validation and one of test; nothing where replies are texts, which none stand in train."""
    said = ["calm", "rough"] * 25
    pairs = {row: Pair(f"Sea {row}?", label) for row, label in enumerate([*said, "High", "rough ", "glassy"])}
    found = unseen_labels(pairs, range(40), [52, *range(40, 52)])
    assert found is not None
    assert (found.rows, found.example) == ((50, 52), "High")
    assert unseen_labels(pairs, [*range(39), 50, 52], range(40, 52)) is None
    assert unseen_labels(clean(), range(1, 41), range(41, 61)) is None
    sets = ["fog; ice", "fog", "ice", "fog; gale", "gale"] * 10 + ["ice; gale"]
    for replies in (sets, [f"{row % 7}.5" for row in range(50)] + ["9.5"]):
        listed = {row: Pair(f"Sea {row}?", reply) for row, reply in enumerate(replies)}
        assert unseen_labels(listed, range(40), range(40, 51)) is None


def test_every_check_is_planted_for() -> None:
    """A newcomer to the registry is caught here: near copies are a check of their own, labels are planted above."""
    assert len(CHECKS) + len({"near duplicates"}) == len(PLANTED) + len({"unbalanced"})


def choices(n: int = 40) -> dict[int, Choice]:
    """Return clean preference rows: replies that differ, either side longer as often."""
    pairs = clean(n)
    return {
        row: Choice(pair.prompt, pair.reply + " Yes." * (row % 2), pair.reply[::-1] + " No." * (1 - row % 2))
        for row, pair in pairs.items()
    }


def test_what_pairs_would_teach_by_accident_is_found() -> None:
    """Each planted row by its check alone; a length bias either way with its figure; nothing in clean rows."""
    rows = choices()
    assert check_choices(rows) == []
    assert check_choices({}) == []
    same = rows | {41: Choice("Note of a day.", "Sea calm.", "Sea  calm.")}
    assert [(found.name, found.rows) for found in check_choices(same)] == [("same reply", (41,))]
    turned = rows | {41: Choice(rows[7].prompt, rows[7].rejected, rows[7].chosen)}
    assert [(found.name, found.rows) for found in check_choices(turned)] == [("contradicting choices", (7, 41))]
    longer = {row: Choice(one.prompt, one.chosen, one.rejected + " and so on" * 3) for row, one in rows.items()}
    (found,) = check_choices(longer)
    assert "longer in 40 of 40 rows" in found.says
    other_way = {row: Choice(one.prompt, one.rejected, one.chosen) for row, one in longer.items()}
    assert "shorter in 40 of 40 rows" in check_choices(other_way)[0].says
    sides = ("calm, said twice", "calm")
    for n_longer, n_rows, is_said in ((570, 1000, False), (630, 1000, True), (12, 20, False)):
        # Of a thousand neither is chance, of twenty any such share may be.
        rows = {row: Choice(f"Sea {row}?", sides[row < n_longer], sides[row >= n_longer]) for row in range(n_rows)}
        assert [found.name for found in check_choices(rows)] == ["length"] * is_said


def test_pairs_are_coded_with_both_replies_after_one_prompt(side: TextSide) -> None:
    """The rejected reply has the end marker too; blank ones are set aside; both replies count for the window."""
    template = read_template("preference", Path())
    cells = {
        "prompt": ["wind?", "sea?", "sky?"],
        "chosen": ["west", "calm", "grey"],
        "rejected": ["oh west", " ", "x" * 99],
    }
    table = pd.DataFrame(cells, index=pd.RangeIndex(1, 4))
    encoder = Encoder(side, side.markup())
    coded = code_rows(table, Coder(template, encoder, 80, paired=True))
    (one,) = coded.examples
    decode = side.tokenizer.decode
    assert (one.row, decode(one.chosen), decode(one.rejected)) == (1, "west", "oh west")
    assert one.rejected[-1] == one.chosen[-1] in encoder.end_ids
    assert one.prompt == encoder.prompt(template.prompt_turns({"prompt": "wind?", "chosen": "", "rejected": ""}))
    assert {bad.row: bad.reason.split(":")[0].split(" ")[-1] for bad in coded.set_aside} == {2: "blank", 3: "80"}
    plain = code_rows(table, Coder(template, encoder, 80))
    assert [one.rejected for one in plain.examples] == [(), (), ()]
    alone = pd.DataFrame(
        {"prompt": ["wind?"] * 3, "chosen": ["west", "", " "], "rejected": ["", "oh west", ""]}, pd.RangeIndex(1, 4)
    )
    coded = code_rows(alone, Coder(template, encoder, 80, paired=True, either=True))
    good, bad = coded.examples
    assert (good.prompt, good.chosen, good.rejected) == (one.prompt, one.chosen, ())
    assert (bad.prompt, bad.chosen, bad.rejected) == (one.prompt, (), one.rejected)
    assert [(aside.row, aside.reason) for aside in coded.set_aside] == [(3, "blank: rejected")]


def test_replies_with_a_verdict_are_checked_as_such() -> None:
    """Good here and bad there; too few of one kind, with the weight; a worse reply of train found in test."""
    kinds = {row: Choice(p.prompt, *((p.reply, "") if row % 2 else ("", p.reply))) for row, p in clean(40).items()}
    assert check_choices(kinds) == []
    both = kinds | {41: Choice(kinds[2].prompt, kinds[2].rejected, "")}
    assert [(found.name, found.rows) for found in check_choices(both)] == [("good and bad", (2,))]
    (uneven,) = check_choices({row: one for row, one in kinds.items() if one.chosen or row < 21})
    assert (uneven.name, uneven.says) == (
        "uneven kinds",
        "20 good and 10 bad replies: a weight of 2.0 for `bad` in [train.pairs] evens it",
    )
    (one_kind,) = check_choices({row: one for row, one in kinds.items() if one.chosen})
    assert one_kind.says == "20 good and 0 bad replies: both kinds are needed"
    worse = "Well, who could say what that sea will do next."
    pairs = {
        1: Pair("a note", "calm", worse),
        2: Pair("another", worse.upper(), bad=True),
        3: Pair("a third", "calm", "no"),
    }
    parts = pd.Series({1: "train", 2: "test", 3: "test"})
    assert [(leak.row, leak.train_row, leak.what) for leak in find_leaks(pairs, parts, near_texts({}, 0.8))] == [
        (2, 1, "rejected reply")
    ]
    often = pairs | {4: Pair("a fourth", "rough", worse)}
    assert find_leaks(often, pd.Series({1: "train", 2: "test", 3: "test", 4: "train"}), near_texts({}, 0.8)) == []
