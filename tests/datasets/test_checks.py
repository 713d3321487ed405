"""Each check finds what is planted for it, in those rows and no others, and nothing in clean rows."""

from __future__ import annotations

import random

import pytest

from foldkit.datasets import CHECKS, Pair, check_pairs, too_few
from foldkit.rows.near import likeness, near_clusters, near_pairs


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
    "very short": Pair("Note of a keeper on a quiet day.", "no"),
    "swapped": Pair("Sea of the keeper on a quiet day.", "Note the other way round entirely."),
    "odd characters": Pair("Note of a b\ufffde on a quiet day.", "Sea quiet, says the keeper there."),
    "leftover markup": Pair("Note <b>bold</b> of a quiet day.", "Sea quiet, says the keeper here."),
    "e-mail address": Pair("Note: write to keeper@pell.example soon.", "Sea quiet, says the old keeper."),
    "phone number": Pair("Note: call +99 555 0100 22 tonight.", "Sea quiet, says a young keeper."),
    "near duplicates": Pair(clean()[9].prompt.replace("Note", "Notes"), clean()[9].reply),
}


def test_clean_rows_give_no_finding() -> None:
    """No false alarm; dates, hours and numbers in a text are no phone numbers."""
    pairs = clean() | {99: Pair("Note of 1931-01-03, 0600 and 06:00: 12 boats, 3.5 miles.", "Sea as it was at 1800.")}
    assert check_pairs(pairs, 0.85) == []


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
    even = {row: Pair(p.prompt, "calm" if row % 2 else "rough") for row, p in clean(100).items()}
    assert check_pairs(even, 0.85) == []
    for n, said in ((20, "little is learned"), (120, "usually need 200")):
        finding = too_few(n)
        assert finding is not None
        assert said in finding.says
    assert too_few(200) is None


def test_every_check_is_planted_for() -> None:
    """A newcomer to the registry is caught here: near copies are a check of their own, labels are planted above."""
    assert len(CHECKS) + len({"near duplicates"}) == len(PLANTED) + len({"unbalanced"})


def test_near_pairs_are_those_of_the_exact_likeness() -> None:
    """Against every pair compared by hand, 80 texts of which a third are copies with a few letters changed."""
    rng = random.Random(8)
    texts = {row: pair.text for row, pair in clean(60).items()}
    for row in range(61, 81):
        letters = list(texts[row - 60])
        for _ in range(rng.randint(1, 4)):
            letters[rng.randrange(len(letters))] = "x"
        texts[row] = "".join(letters)
    expected = {(a, b) for a in texts for b in texts if a < b and likeness(texts[a], texts[b]) >= 0.75}
    assert {(pair.first, pair.second) for pair in near_pairs(texts, 0.75)} == expected
    assert len(expected) >= 15
    clusters = near_clusters(texts, 0.75)
    assert all(clusters[a] == clusters[b] for a, b in expected)
    assert len(set(clusters.values())) == 80 - len(expected)
    assert likeness("A  b", "a b") == 1
    assert likeness("abcdefgh", "zyxwvuts") == 0
