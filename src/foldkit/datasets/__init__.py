"""Splits, examples, and built datasets on disk."""

from .assignment import assignment_path, read_assignment, write_assignment
from .building import build_dataset
from .checks import CHECKS, Finding, check_pairs, too_few, unseen_labels
from .coding import Coded, Coder, SetAside, code_rows
from .examples import Example, Examples, learned_counts, row_numbers, token_counts
from .leaks import Leak, find_leaks
from .linting import lint_template
from .padding import padding_share
from .pair_checks import Choice, check_choices, choices_of
from .pairs import Pair, pairs_of
from .placing import PARTS
from .splitting import SplitSettings, assign_parts, parts_of_keys, row_keys
from .store import Dataset, read_built

__all__ = [
    "CHECKS",
    "PARTS",
    "Choice",
    "Coded",
    "Coder",
    "Dataset",
    "Example",
    "Examples",
    "Finding",
    "Leak",
    "Pair",
    "SetAside",
    "SplitSettings",
    "assign_parts",
    "assignment_path",
    "build_dataset",
    "check_choices",
    "check_pairs",
    "choices_of",
    "code_rows",
    "find_leaks",
    "learned_counts",
    "lint_template",
    "padding_share",
    "pairs_of",
    "parts_of_keys",
    "read_assignment",
    "read_built",
    "row_keys",
    "row_numbers",
    "token_counts",
    "too_few",
    "unseen_labels",
    "write_assignment",
]
