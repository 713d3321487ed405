"""Write `notes.csv` and `general.txt` of the sample world anew, by their seeds."""

from __future__ import annotations

from foldkit.demo.files import DATA
from foldkit.demo.notes import csv_text, make_rows
from foldkit.demo.prose import general_text

if __name__ == "__main__":
    (DATA / "notes.csv").write_text(csv_text(make_rows()), encoding="utf-8")
    (DATA / "general.txt").write_text(general_text(), encoding="utf-8")
