"""The registry of measures, one file for each kind."""

from .exact import EXACT, NORMALISED
from .fields import FIELDS, FORMAT, check_schema, field_matches, parse
from .items import ITEMS
from .labels import F1, LABEL, label_pair
from .loss import BITS, LOSS, PERPLEXITY, TOKENS
from .manner import ENDED, LENGTH, REFUSES, REPEATS
from .measure import Form, Measure, Reply
from .numbers import NUMBERS
from .own import load_function, own_measure
from .ranked import RANKED
from .similarity import CHARACTERS, SIMILARITY, WORDS

_ALL = (
    *(LOSS, PERPLEXITY, BITS, TOKENS),
    *(EXACT, NORMALISED, FIELDS, FORMAT, LABEL, F1, ITEMS, NUMBERS),
    *(SIMILARITY, CHARACTERS, WORDS),
    *(LENGTH, ENDED, REPEATS, REFUSES, RANKED),
)
MEASURES: dict[str, Measure] = {measure.name: measure for measure in _ALL}

__all__ = [
    "MEASURES",
    "Form",
    "Measure",
    "Reply",
    "check_schema",
    "field_matches",
    "label_pair",
    "load_function",
    "own_measure",
    "parse",
]
