"""Every sample of docs/rows.md gives the rows that stand under it."""

from __future__ import annotations

import gzip
import json
import re
import tomllib
from pathlib import Path

import pyarrow as pa
import pyarrow.parquet
import pytest

from foldkit.formats.settings import read_settings
from foldkit.rows import KINDS, READERS, SHAPES, RowsSettings, read_rows

PAGE = (Path(__file__).parents[2] / "docs" / "rows.md").read_text(encoding="utf-8")
SAMPLE = re.compile(
    r"## ([^\n]+)\n\n(?:(?!## ).*?\n\n)??`([^`\n]+)`\n\n```\w+\n(.*?\n)```\n\n```toml\n(.*?)```\n\n```jsonl\n(.*?)```",
    re.DOTALL,
)
SAMPLES = SAMPLE.findall(PAGE)


@pytest.mark.parametrize("sample", SAMPLES, ids=lambda sample: sample[0])
def test_a_sample_gives_its_rows(sample: tuple[str, ...], tmp_path: Path) -> None:
    """Written to a file of that name, read by that section."""
    _, name, text, section, expected = sample
    path = tmp_path / name.replace("*", "1")
    path.parent.mkdir(exist_ok=True)
    if path.suffix in (".parquet", ".arrow"):
        table = pa.Table.from_pylist([json.loads(line) for line in text.splitlines()])
        if path.suffix == ".parquet":
            pa.parquet.write_table(table, path)
        else:
            with pa.ipc.new_file(path, table.schema) as writer:
                writer.write_table(table)
    else:
        path.write_bytes(gzip.compress(text.encode()) if path.suffix == ".gz" else text.encode())
    settings = read_settings(RowsSettings, tomllib.loads(section), "the sample")
    found = read_rows(settings, tmp_path).table.to_dict("records")
    assert found == [json.loads(line) for line in expected.splitlines()]


def test_the_page_names_every_ending_and_every_kind() -> None:
    """A newcomer to a registry is caught here."""
    assert len(SAMPLES) == PAGE.count("```toml")
    assert [name for name in SHAPES if f"[{name}]" not in PAGE] == []
    assert [ending for ending in READERS if ending not in PAGE] == []
    assert [kind for kind in KINDS if f"| {kind} |" not in PAGE] == []
    assert [name for slots in KINDS.values() for names in slots.values() for name in names if name not in PAGE] == []
