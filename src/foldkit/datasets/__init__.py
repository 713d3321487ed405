"""Splits, examples, and built datasets on disk."""

from .building import Dataset, Example, SetAside, build_dataset
from .checks import CHECKS, Finding, check_pairs, too_few
from .pairs import Pair, pairs_of
from .splitting import PARTS, Leak, SplitSettings, assign_parts, find_leaks
from .store import read_built, write_built

__all__ = [
    "CHECKS",
    "PARTS",
    "Dataset",
    "Example",
    "Finding",
    "Leak",
    "Pair",
    "SetAside",
    "SplitSettings",
    "assign_parts",
    "build_dataset",
    "check_pairs",
    "find_leaks",
    "pairs_of",
    "read_built",
    "too_few",
    "write_built",
]
