"""The registry of readers, by the ending of a file's name; `.gz` may follow any of them."""

from .columnar import read_arrow, read_parquet
from .contract import Bad, Block, Reader, damaged
from .delimited import read_delimited
from .json_files import read_json, read_json_lines
from .prose import read_prose

READERS: dict[str, Reader] = {
    ".csv": read_delimited,
    ".tsv": read_delimited,
    ".tab": read_delimited,
    ".json": read_json,
    ".jsonl": read_json_lines,
    ".ndjson": read_json_lines,
    ".parquet": read_parquet,
    ".arrow": read_arrow,
    ".feather": read_arrow,
    ".txt": read_prose,
    ".md": read_prose,
}

__all__ = ["READERS", "Bad", "Block", "Reader", "damaged"]
