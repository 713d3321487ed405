"""Write the data of the sample world anew, by their seeds."""

from __future__ import annotations

from foldkit.demo.calls import radio_csv, talks_jsonl
from foldkit.demo.files import DATA
from foldkit.demo.notes import csv_text, make_rows
from foldkit.demo.picks import picks_jsonl
from foldkit.demo.prose import general_text

if __name__ == "__main__":
    (DATA / "notes.csv").write_text(csv_text(make_rows()), encoding="utf-8")
    (DATA / "radio.csv").write_text(radio_csv(), encoding="utf-8")
    (DATA / "talks.jsonl").write_text(talks_jsonl(), encoding="utf-8")
    (DATA / "picks.jsonl").write_text(picks_jsonl(), encoding="utf-8")
    (DATA / "general.txt").write_text(general_text(), encoding="utf-8")
