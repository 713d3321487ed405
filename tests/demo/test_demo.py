"""The sample world: what its files hold, what its prose never holds, and the base that ships."""

from __future__ import annotations

import random
import re

import pytest
import torch

from foldkit.demo import PELLAM, prose, wordings
from foldkit.demo.calls import radio_csv, talks_jsonl
from foldkit.demo.files import DATA
from foldkit.demo.notes import csv_text, make_rows
from foldkit.demo.picks import picks_jsonl
from foldkit.demo.world import BULLETIN_PATTERN, Readings, advice, bulletin, draw_readings, parse_bulletin
from foldkit.models import fingerprint_base, open_base
from foldkit.rows import RowsSettings, read_rows, summarise
from foldkit.tokens import open_text_side
from foldkit.work import read_sheet


def test_the_shipped_files_are_those_the_generators_make() -> None:
    """By their seeds, to the letter; and the sheet's pattern is the world's."""
    assert (DATA / "notes.csv").read_text(encoding="utf-8") == csv_text(make_rows())
    assert (DATA / "radio.csv").read_text(encoding="utf-8") == radio_csv()
    assert (DATA / "talks.jsonl").read_text(encoding="utf-8") == talks_jsonl()
    assert (DATA / "picks.jsonl").read_text(encoding="utf-8") == picks_jsonl()
    assert (DATA / "general.txt").read_text(encoding="utf-8") == prose.general_text()
    assert read_sheet(DATA / "fold.toml").score.pattern == BULLETIN_PATTERN


def test_the_rows_have_the_mess_that_real_files_have() -> None:
    """Blanks, stray spaces, exact and near duplicates, a number where text belongs, accents."""
    table = read_rows(RowsSettings("notes.csv", strip=False), DATA).table
    summary = summarise(table)
    columns = {c.name: c for c in summary.columns}
    assert 590 <= summary.n_rows <= 620
    assert columns["note"].n_blank == 3
    assert columns["bulletin"].n_blank == 2
    assert columns["context"].n_blank > 300
    assert columns["note"].n_numbers == 1
    assert len(summary.duplicates) == 4
    assert table["note"].str.startswith("  ").sum() == 8
    assert table["context"].str.contains("é").any()


def test_new_wordings_stand_in_no_known_row() -> None:
    """The column tells the truth: patterns of the new list, slots cut out, match no note marked known."""
    patterns = [re.escape(text) for texts in wordings.NEW.values() for text in texts]
    new = re.compile("|".join(re.sub(r"\\\{\w+\\\}", r"\\S+", pattern) for pattern in patterns), re.IGNORECASE)
    rows = make_rows()
    marked = [row for row in rows if row["wording"] == "new"]
    assert all(new.search(row["note"]) for row in marked)
    assert not [row["note"] for row in rows if row["wording"] == "known" and new.search(row["note"])]
    assert {row["date"] for row in marked}.isdisjoint(row["date"] for row in rows if row["wording"] == "known")


def test_a_bulletin_says_its_readings_and_the_advice_follows_the_rule() -> None:
    """Parsed back, for drawn readings; each advice by hand."""
    rng = random.Random(1)
    for _ in range(200):
        readings = draw_readings(rng)
        fields = parse_bulletin(bulletin(readings))
        assert fields is not None
        assert fields["advice"] == advice(readings)
        assert (fields["station"], fields["gusts"]) == (readings.station, str(readings.gusts))
    for gusts, visibility, trend, expected in (
        (9, 1, "rising", "All boats stay in"),
        (8, 2, "falling", "Sound the horn"),
        (6, 3, "falling", "Small boats in by dark"),
        (5, 3, "falling", "No warning"),
    ):
        assert advice(Readings("X", "0300", "N", 3, gusts, "calm", visibility, trend)) == expected
    assert parse_bulletin("No bulletin.") is None


def test_no_bulletin_and_no_sample_row_stands_in_the_prose() -> None:
    """3,000 documents over the whole of a training; the pattern does find a planted one: the control."""
    pattern = re.compile(BULLETIN_PATTERN)
    rows = make_rows()
    notes = {row["note"].strip() for row in rows if len(row["note"]) > 20}
    sayings = {advice(draw_readings(random.Random(seed))) for seed in range(99)}
    assert len(sayings) == 4
    for seed in range(10):
        source = prose.documents(random.Random(seed), seed / 9)
        text = "\n".join(prose.text_of(next(source)) for _ in range(300))
        assert not pattern.search(text)
        assert not [note for note in notes if note in text]
        assert not [saying for saying in sayings if saying.lower() in text.lower()]
    assert pattern.search(f"{text} {rows[0]['bulletin']}")


def test_the_base_that_ships_is_the_one_the_card_describes() -> None:
    """Small, in 16 bits, and its fingerprint stands in its card."""
    base = open_base(PELLAM)
    assert 1e6 < base.decoder.n_parameters < 2e6
    assert sum(path.stat().st_size for path in PELLAM.iterdir()) < 4_000_000
    assert base.fingerprint == fingerprint_base(PELLAM) == FINGERPRINT
    assert FINGERPRINT in (PELLAM / "card.md").read_text(encoding="utf-8")


@pytest.mark.parametrize("field", ["hour", "direction", "force", "visibility", "trend"])
def test_the_base_can_look_a_value_up(field: str) -> None:
    """Greedy answers to questions on whole notes: at least 24 of 30 right, where guessing would give 2 to 10."""
    base, side = open_base(PELLAM), open_text_side(PELLAM)
    rng, right = random.Random(77), 0
    for _ in range(30):
        question, answer = (side.tokenizer.encode_text(span.text) for span in prose.note_probe(rng, field))
        ids = torch.tensor([[*side.end_ids, *question, *answer]])
        with torch.inference_mode():
            logits = base.decoder.logits(base.decoder(ids)[:, -len(answer) - 1 : -1])
        right += logits.argmax(-1)[0].tolist() == answer
    assert right >= 24


FINGERPRINT = "sha256:8117fa3a4fc666a5"
