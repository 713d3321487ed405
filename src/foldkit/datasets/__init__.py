"""Splits, examples, and built datasets on disk."""

from .building import Dataset, Example, SetAside, build_dataset
from .splitting import PARTS, Leak, SplitSettings, assign_parts, find_leaks
from .store import read_built, write_built

__all__ = [
    "PARTS",
    "Dataset",
    "Example",
    "Leak",
    "SetAside",
    "SplitSettings",
    "assign_parts",
    "build_dataset",
    "find_leaks",
    "read_built",
    "write_built",
]
